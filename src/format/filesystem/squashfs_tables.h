#pragma once

#include "base/facts.h"
#include "format/filesystem/squashfs_form.h"

namespace operculum::squash {

/// Bytes in metadata blocks of 8 KiB, packed one by one.
class MetaWriter {
 public:
  MetaWriter(const Form& form, Flag stored_when) : form_(form), stored_(form.has(stored_when)) {}

  std::uint64_t block() const { return out_.size(); }       ///< where the block that is being filled will lie
  std::uint64_t offset() const { return pending_.size(); }  ///< within it, unpacked
  std::uint64_t reference() const { return block() << 16 | offset(); }
  void add(ByteView bytes);
  template <typename S>
  void add(const S& record) {
    Bytes raw;
    append_structure(raw, record);
    add(ByteView(raw));
  }

  const std::vector<std::uint64_t>& blocks() const { return blocks_; }  ///< places of all, after finish()
  Bytes finish();

 private:
  void end_block(std::size_t count);

  const Form& form_;
  bool stored_;
  Bytes pending_, out_;
  std::vector<std::uint64_t> blocks_;
};

/// A table that is found through a list of its blocks' places: the blocks go to the end of `out`, whose first
/// byte lies at `base` in the image, then `head` and the list. Returns where those begin in the image.
std::uint64_t add_table(Bytes& out, std::uint64_t base, MetaWriter& table, ByteView head = {});

/// The owners that inodes name by number.
class OwnerTable {
 public:
  std::uint16_t number(std::uint32_t id);  ///< throws Unsupported when there are too many
  const std::vector<std::uint32_t>& all() const { return ids_; }

 private:
  std::vector<std::uint32_t> ids_;
};

/// The extended attributes that inodes name by number; the same ones are there once.
class AttributeTable {
 public:
  explicit AttributeTable(const Form& form) : pairs_(form, attributes_stored) {}

  /// kNoAttributes where nothing of them can be kept: names outside the three spaces that have a number.
  std::uint32_t number(const ExtendedAttributes& attributes);
  bool empty() const { return records_.empty(); }
  /// Adds it to `out` as add_table() does.
  std::uint64_t add_to(Bytes& out, std::uint64_t base, const Form& form);

 private:
  MetaWriter pairs_;
  std::vector<AttributeRecord> records_;
  std::vector<ExtendedAttributes> known_;
};

}  // namespace operculum::squash
