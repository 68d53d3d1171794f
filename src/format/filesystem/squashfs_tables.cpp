#include "format/filesystem/squashfs_tables.h"

#include <algorithm>

#include "base/cursor.h"
#include "base/error.h"
#include "base/numbers.h"

namespace operculum::squash {

void MetaWriter::add(ByteView bytes) {
  while (!bytes.empty()) {
    std::size_t part = std::min<std::size_t>(bytes.size(), kMetaBlock - pending_.size());
    pending_.insert(pending_.end(), bytes.begin(), bytes.begin() + static_cast<std::ptrdiff_t>(part));
    bytes = bytes.subspan(part);
    if (pending_.size() == kMetaBlock) end_block(kMetaBlock);
  }
}

Bytes MetaWriter::finish() {
  if (!pending_.empty()) end_block(pending_.size());
  return std::move(out_);
}

void MetaWriter::end_block(std::size_t count) {
  blocks_.push_back(out_.size());
  auto packed = stored_ ? std::nullopt : pack_block(form_.codec, pending_, form_.meta_packing);
  append_number(out_, 2, packed ? packed->size() : count | kMetaStored);
  const Bytes& body = packed ? *packed : pending_;
  out_.insert(out_.end(), body.begin(), body.end());
  pending_.clear();
}

std::uint64_t add_table(Bytes& out, std::uint64_t base, MetaWriter& table, ByteView head) {
  std::uint64_t begin = base + out.size();
  Bytes blocks = table.finish();
  out.insert(out.end(), blocks.begin(), blocks.end());
  std::uint64_t list = base + out.size();
  out.insert(out.end(), head.begin(), head.end());
  for (std::uint64_t block : table.blocks()) append_number(out, 8, begin + block);
  return list;
}

std::uint16_t OwnerTable::number(std::uint32_t id) {
  auto found = std::find(ids_.begin(), ids_.end(), id);
  if (found == ids_.end()) {
    if (ids_.size() == UINT16_MAX) throw Unsupported("more than 65,535 owners in a SquashFS image");
    found = ids_.insert(ids_.end(), id);
  }
  return static_cast<std::uint16_t>(found - ids_.begin());
}

std::uint32_t AttributeTable::number(const ExtendedAttributes& attributes) {
  ExtendedAttributes kept;
  Bytes raw;
  for (const auto& [name, value] : attributes) {
    for (std::size_t i = 0; i < std::size(kAttributePrefixes); ++i) {
      if (!name.starts_with(kAttributePrefixes[i])) continue;
      std::string_view rest = std::string_view(name).substr(kAttributePrefixes[i].size());
      append_number(raw, 2, i);
      append_number(raw, 2, rest.size());
      raw.insert(raw.end(), rest.begin(), rest.end());
      append_number(raw, 4, value.size());
      raw.insert(raw.end(), value.begin(), value.end());
      kept.emplace_back(name, value);
    }
  }
  if (kept.empty()) return kNoAttributes;
  auto known = std::find(known_.begin(), known_.end(), kept);
  if (known == known_.end()) {
    std::uint64_t reference = pairs_.reference();
    pairs_.add(ByteView(raw));
    std::uint32_t size = 0;  // of whole names with a zero behind each, and of values
    for (const auto& [name, value] : kept) size += static_cast<std::uint32_t>(name.size() + 1 + value.size());
    records_.push_back({reference, static_cast<std::uint32_t>(kept.size()), size});
    known_.push_back(std::move(kept));
    known = std::prev(known_.end());
  }
  return static_cast<std::uint32_t>(known - known_.begin());
}

std::uint64_t AttributeTable::add_to(Bytes& out, std::uint64_t base, const Form& form) {
  AttributeTableHead head;
  head.pairs = base + out.size();
  head.count = static_cast<std::uint32_t>(records_.size());
  Bytes pairs = pairs_.finish();
  out.insert(out.end(), pairs.begin(), pairs.end());
  MetaWriter list(form, attributes_stored);
  for (const AttributeRecord& record : records_) list.add(record);
  Bytes raw;
  append_structure(raw, head);
  return add_table(out, base, list, raw);
}

}  // namespace operculum::squash
