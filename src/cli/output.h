#pragma once

#include <memory>
#include <string>
#include <string_view>

#include "base/shown.h"
#include "io/descriptor.h"

namespace operculum::cli {

/// Where data goes: standard output, or a new file that gets its name when it is complete. Buffered; what
/// standard output is owed is flushed by the destructor too.
class Output {
 public:
  Output() = default;
  Output(const Output&) = delete;
  Output& operator=(const Output&) = delete;
  ~Output();

  /// A file that must not exist yet. Throws IoError.
  void open(const std::string& path);
  void write(const Shown& text) { write_bytes(text.text()); }
  void write_bytes(std::string_view bytes);     ///< contents, as a person asked for them; or a file's
  void write_line(std::string_view untrusted);  ///< escaped, with a line end
  void flush();   ///< throws IoError; a reader that went away ends the program quietly
  void finish();  ///< flushes, and gives the file its name; throws IoError
  bool is_terminal() const;

 private:
  int number() const { return file_ ? file_.number() : 1; }
  /// Where `count` bytes, at most kBuffer, can be put; they count once used_ says so.
  char* room(std::size_t count);
  void write_out(std::string_view text);

  Descriptor file_;
  std::string path_;    // the name that the file gets
  bool named_ = false;  // it has it from the beginning: the file system knows no unnamed files
  std::unique_ptr<char[]> buffer_;
  std::size_t used_ = 0;
};

/// Columns of the terminal on this descriptor, else of $COLUMNS, else 100.
std::size_t terminal_width(int descriptor);

/// True when text on this descriptor may have colour: a terminal, and NO_COLOR is not set.
bool colour_wanted(int descriptor);

/// Anybody's words, made printable, in an SGR style ("1" bold, "35" magenta) when `wanted`.
Shown styled(std::string_view untrusted, std::string_view sgr, bool wanted);

}  // namespace operculum::cli
