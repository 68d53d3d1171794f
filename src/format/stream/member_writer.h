#pragma once

#include "format/stream/single_stream.h"

namespace operculum {

/// Writes a file of one packed stream again, with another content. Where it has several members (frames,
/// streams) one behind another, it keeps them: the new content is cut as the old one was, members whose plain
/// bytes stay are copied as they lie, and so is what follows the last one that holds anything.
class MemberWriter {
 public:
  /// Where `stream` knows the size of what comes out and tells no members, there is one, and its end is not
  /// looked for.
  MemberWriter(SourcePtr packed, const SingleStream& stream, std::string path, const Writing& writing);

  /// `content` has `size` bytes. Throws what it throws, Malformed where the old bytes are damaged,
  /// Unsupported.
  void write(const Content& content, std::uint64_t size, Assembly& out);

 private:
  using Member = PackedMember;
  void find_members();
  void keep_sensible(std::uint64_t plain_size);
  void write_member(const Member& like, const Content& plain, std::uint64_t size, Assembly& out);
  void write_parts(const SourcePtr& plain, Assembly& out);
  const PackSettings& settings_of(const Member& member, const Framing& framing);
  ContentPtr plain_of(const Member& member) const;

  SourcePtr packed_;
  std::string_view codec_;
  FindFraming framing_of_;
  std::string path_;
  const Writing& writing_;
  std::vector<Member> members_;
  std::uint64_t tail_at_ = 0;  ///< behind the last member that holds anything
  std::optional<PackSettings> settings_;
};

}  // namespace operculum
