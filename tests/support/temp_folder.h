#pragma once

#include <filesystem>
#include <string>

#include "base/bytes.h"

namespace operculum::test {

/// A new folder that vanishes with the object.
class TempFolder {
 public:
  TempFolder();
  ~TempFolder();
  TempFolder(const TempFolder&) = delete;
  TempFolder& operator=(const TempFolder&) = delete;

  std::string path(const std::string& name = "") const { return name.empty() ? path_ : path_ + "/" + name; }
  std::string write(const std::string& name, ByteView bytes) const;  ///< makes folders; returns the path
  std::string write(const std::string& name, std::string_view text) const {
    return write(name, as_bytes(text));
  }
  std::string read(const std::string& name) const;
  bool has(const std::string& name) const {
    return std::filesystem::exists(std::filesystem::symlink_status(path(name)));
  }
  /// Every path beneath, sorted, folders with a slash behind: "a/ a/b.txt"; empty when there is no such
  /// folder.
  std::string listing(const std::string& name = "") const;

 private:
  std::string path_;
};

/// All of a file; in one read, for character by character takes most of a test's time.
std::string read_file(const std::string& path);

}  // namespace operculum::test
