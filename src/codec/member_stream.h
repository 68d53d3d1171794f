#pragma once

#include "codec/codec.h"
#include "io/input_buffer.h"

namespace operculum {

/// Common to the decoders: input that holds one or more members (frames, streams) one after another. A
/// subclass decodes one member; this class joins members and tells of bytes behind the last one that begin no
/// other.
class MemberStream : public Stream {
 public:
  MemberStream(StreamPtr packed, const CodecOptions& options)
      : input_(std::move(packed)), note_(options.note), member_ended_(options.member_ended) {}
  std::size_t read(ByteSpan out) final;

 protected:
  struct Step {
    std::size_t consumed, produced;
    bool member_ended;
  };
  /// Makes ready for the next member.
  virtual void begin_member() = 0;
  /// Decodes some of `in`; `in` is empty at the end of the input. Throws Malformed on damage.
  virtual Step decode(ByteView in, ByteSpan out) = 0;
  /// Whether another member follows the one that ended; by default none may.
  virtual bool more_members(InputBuffer&) { return false; }

  /// Damage `taken` bytes into what `decode` was given.
  [[noreturn]] void fail(std::string_view codec, std::string_view reason, std::size_t taken = 0) const;
  [[noreturn]] void fail_cut(std::string_view codec) const;

 private:
  InputBuffer input_;
  std::function<void(const std::string&)> note_;
  std::function<void(std::uint64_t, std::uint64_t)> member_ended_;
  bool in_member_ = false;
  std::uint64_t members_ = 0, plain_ = 0;
};

}  // namespace operculum
