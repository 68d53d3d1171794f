#pragma once

#include <bit>
#include <string>
#include <utility>
#include <vector>

#include "support/byte_writer.h"

namespace operculum::test {

/// A node of a device tree to be written.
struct TreeNode {
  std::string name;
  std::vector<std::pair<std::string, Bytes>> properties = {};
  std::vector<TreeNode> nodes = {};
};

Bytes cell(std::uint32_t value);              ///< a value of one number
Bytes cells(std::vector<std::uint32_t> all);  ///< of several
Bytes zero_ended(std::string_view text);      ///< of a text

/// A device tree of version 17.
Bytes make_device_tree(const TreeNode& root);

struct FitImage {
  std::string name, type;
  Bytes data;
  Bytes key = {}, iv = {};    ///< for AES-CBC; empty: not encrypted
  std::string key_name = {};  ///< as the file calls it
};
/// A flattened image tree with a SHA-256 of each image and one configuration; its data behind the tree where
/// `external`.
Bytes make_fit(const std::string& description, const std::vector<FitImage>& images, bool external = false);

/// A legacy boot image of one file; `kind` is its type, `packing` its ih_comp.
Bytes make_boot_image(const std::string& name, const Bytes& data, unsigned kind = 2, unsigned packing = 0);
/// Of several.
Bytes make_multi_boot_image(const std::vector<Bytes>& files);

/// Writes the nodes of a JFFS2 image, one after another.
class Jffs2Writer {
 public:
  explicit Jffs2Writer(std::endian order = std::endian::little) : order_(order) {}
  Jffs2Writer& name(std::uint32_t folder, std::uint32_t inode, const std::string& name, unsigned type,
                    std::uint32_t version);
  /// `packing`: 0 as it is, 6 zlib; `size` of the whole file as this version has it.
  Jffs2Writer& piece(std::uint32_t inode, std::uint32_t mode, std::uint32_t version, std::uint32_t offset,
                     const Bytes& data, std::uint32_t size, unsigned packing = 0);
  Jffs2Writer& folder(std::uint32_t parent, std::uint32_t inode, const std::string& name);
  Jffs2Writer& file(std::uint32_t parent, std::uint32_t inode, const std::string& name, const Bytes& data,
                    std::uint32_t version = 1);
  Bytes build(std::size_t size = 0);  ///< filled up with erased flash

 private:
  void number(std::uint64_t value, std::size_t width);
  void finish(std::size_t begin, std::size_t sum_at, std::size_t summed);
  std::endian order_;
  Bytes bytes_;
};

// ---- UEFI

Bytes guid_bytes(std::string_view text);
Bytes uefi_section(unsigned type, const Bytes& data);
Bytes uefi_guided(std::string_view guid, const Bytes& data, unsigned attributes = 1);
Bytes uefi_name(std::string_view text);  ///< the section that gives a file its name
Bytes uefi_file(std::string_view guid, unsigned type, const std::vector<Bytes>& sections);
/// A volume of files; `kind` is the GUID of its file system.
Bytes uefi_volume(const std::vector<Bytes>& files, std::size_t size,
                  std::string_view kind = "8c8ce578-8a3d-4f1c-9935-896185c32dd3");
struct UefiVariable {
  std::string name;
  Bytes data;
  unsigned state = 0x3F;
};
Bytes uefi_variables(const std::vector<UefiVariable>& variables, std::size_t size);

}  // namespace operculum::test
