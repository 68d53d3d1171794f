#pragma once

#include <string>

#include "study/grid.h"
#include "study/subject.h"

namespace operculum::study {

constexpr std::size_t kMostMagic = 16;  ///< bytes at the begin of a file that a draft asks for

/// Bytes as the language writes them: a text where they can be read, else in hexadecimal.
std::string literal(ByteView bytes);

/// How many of these first bytes tell a kind of file: a text with what ends it, or up to four others.
std::size_t magic_of(ByteView bytes);

/// The type of a word in a file of lines of words.
std::string_view word_type(WordKind kind);

/// How a draft calls the length of what holds the data.
std::string_view size_of_data(const Subject& subject);

/// A description as it is written, line by line.
class DraftText {
 public:
  /// What it is called, after the file, and the order of bytes.
  void title(const Subject& subject, bool big);
  void line(const std::string& text, const std::string& comment = {});
  /// A field of bytes that all files of the kind begin with.
  void magic(ByteView bytes);
  /// Fields for what nobody knows, from `at` to `end`.
  void gap(std::uint64_t at, std::uint64_t end);
  /// A name for what nobody knows.
  std::string unknown();
  /// Whether the lines to come lie in a block of their own.
  void within(bool inside) { within_ = inside; }
  std::string take() { return std::move(out_); }

 private:
  std::string out_;
  int unknowns_ = 0;
  bool within_ = false;
};

}  // namespace operculum::study
