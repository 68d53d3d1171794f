#pragma once

#include <optional>
#include <string>
#include <vector>

#include "base/bytes.h"
#include "base/glob.h"

namespace operculum {

/// What is looked for within the bytes of files: texts in every usual encoding, and plain bytes.
class Needles {
 public:
  /// Looked for in UTF-8, in both orders of UTF-16, and in `encodings`, as far as they have its characters.
  /// Ignored case is that of ASCII letters. Throws Unsupported for an encoding that is not known.
  void add_text(const std::string& text, Glob::Case letters, const std::vector<std::string>& encodings = {});
  void add_bytes(Bytes bytes);

  bool empty() const { return all_.empty(); }

 private:
  friend class ContentSearch;
  struct Needle {
    Bytes bytes;  // in small letters where case is ignored
    Glob::Case letters = Glob::Case::exact;
    std::string encoding;  // empty: plain bytes
  };
  std::vector<Needle> all_;
};

/// A place where a needle lies.
struct ContentHit {
  std::uint64_t at = 0;    ///< offset in the file's bytes
  std::uint64_t line = 0;  ///< of a text in an encoding that keeps ASCII, from 1; else 0
  std::string excerpt;     ///< of a text: its line, or as much as lies around it, UTF-8; of bytes, digits
  std::string encoding;    ///< that it was found in; empty for plain bytes
};

/// Looks for needles in bytes that are given piece by piece, each piece once. Not shared between threads.
class ContentSearch {
 public:
  /// `most` hits are kept; needles must outlive the search.
  ContentSearch(const Needles& needles, std::size_t most) : needles_(needles), most_(most) {}

  void add(ByteView bytes);
  void finish();  ///< when all bytes were given
  bool full() const { return hits_.size() >= most_; }
  std::vector<ContentHit> hits();  ///< in order of their offsets

 private:
  static constexpr std::size_t kAround =
      256;  ///< bytes kept of the piece before, and waited for behind a hit

  void search(bool last);
  void look_for(std::size_t needle, ByteView window, std::size_t limit);
  ContentHit describe(const Needles::Needle& needle, std::size_t at, ByteView window) const;

  const Needles& needles_;
  std::size_t most_;
  Bytes window_;                     // the end of what was searched, then what was not
  Bytes folded_;                     // the same in small letters
  std::uint64_t window_at_ = 0;      // offset of the window's first byte
  std::size_t searched_ = 0;         // hits that begin in front of this were found already
  std::uint64_t lines_ = 0;          // line ends in front of the window
  std::vector<std::uint64_t> next_;  // of each needle: where one that does not overlap the last may begin
  std::vector<ContentHit> hits_;
};

}  // namespace operculum
