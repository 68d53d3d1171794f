#pragma once

#include <array>
#include <deque>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <unordered_map>

#include "base/bytes.h"
#include "task/unpack.h"

namespace operculum {

/// What an unpack wrote, so that it can be taken back: see docs/output.md for the JSON form. A receipt is
/// bound to its folder by a seal, a small file in it that holds the receipt's digest: a receipt from
/// elsewhere removes nothing.
class Receipt {
 public:
  enum class Kind : std::uint8_t { file, folder, link, hard_link };

  /// Something that was written; there may be millions: about 90 bytes beside the path.
  struct Item {
    std::string path;  ///< beneath the folder
    std::uint64_t size = 0;
    std::optional<std::array<Byte, 32>> sha256;  ///< of files and hard links
    Kind kind = Kind::file;

    void set_link_target(std::string target);
    void set_replaced(std::string path);
    std::string_view link_target() const { return more_ ? std::string_view(more_->link_target) : ""; }
    /// The path that what was there before has now.
    std::string_view replaced() const { return more_ ? std::string_view(more_->replaced) : ""; }

   private:
    struct More {
      std::string link_target, replaced;
    };
    More& more();
    std::unique_ptr<More> more_;  // few have any of it
  };

  std::string source;    ///< the locator that was unpacked
  std::string folder;    ///< absolute
  bool complete = true;  ///< false: the unpacking was interrupted
  std::deque<Item> items;

  void add(const UnpackEvent& event);

  /// Writes the receipt and, when anything was written, the seal. Throws IoError; nothing that exists is
  /// replaced.
  void write(const std::string& path) const;
  static Receipt read(const std::string& path);  ///< throws IoError, Malformed

  std::string seal() const;                             ///< SHA-256 over what was written
  static std::string seal_path(std::string_view seal);  ///< of its file, beneath the folder

 private:
  std::size_t file_called(const std::string& path);

  std::unordered_map<std::string_view, std::size_t> files_;  // into items; made for the first hard link
  std::size_t known_ = 0;                                    // items that files_ knows
};

/// The digest that these 64 digits are; nothing when they are none.
std::optional<std::array<Byte, 32>> sha256_from(std::string_view digits);

}  // namespace operculum
