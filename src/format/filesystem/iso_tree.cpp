#include "format/filesystem/iso_tree.h"

#include <algorithm>
#include <map>

#include "base/error.h"
#include "base/numbers.h"
#include "base/text.h"
#include "format/filesystem/iso_fields.h"

namespace operculum::iso {
namespace {

constexpr std::size_t kDeepest = 256;

/// The first sector of any file beneath a folder; 0: there is none.
std::uint64_t first_data(const DiscFolder& folder, std::size_t depth = 0) {
  std::uint64_t first = 0;
  for (const auto& row : folder.rows) {
    std::uint64_t one = 0;
    if (row->folder) {
      one = depth < kDeepest ? first_data(*row->folder, depth + 1) : 0;
    } else if (row->size > 0) {
      one = row->first.extent;
    }
    if (one != 0 && (first == 0 || one < first)) first = one;
  }
  return first;
}

void join(DiscRow& a, DiscRow& b) {
  a.twin = &b;
  b.twin = &a;
  if (a.folder && b.folder) pair_trees(*a.folder, *b.folder);
}

/// Joins the rows for which `key` gives the same, where only one on either side has it.
template <typename Key>
void join_by(DiscFolder& a, DiscFolder& b, Key key) {
  std::map<std::string, std::vector<DiscRow*>> left, right;
  for (auto [folder, side] : {std::pair{&a, &left}, {&b, &right}}) {
    for (auto& row : folder->rows) {
      if (row->twin != nullptr) continue;
      if (std::string one = key(*row); !one.empty()) (*side)[one].push_back(row.get());
    }
  }
  for (auto& [text, rows] : left) {
    auto found = right.find(text);
    if (found != right.end() && rows.size() == 1 && found->second.size() == 1)
      join(*rows[0], *found->second[0]);
  }
}

}  // namespace

void TreeLoader::load(DiscFolder& folder, std::uint64_t extent, std::uint64_t size) {
  if (!met_.insert(extent).second || met_.size() > 1'000'000)
    throw Malformed("ISO 9660: a folder is met twice");
  folder.extent = extent;
  folder.size = size;
  for (std::uint64_t done = 0; done < size; done += kSector) {
    Bytes sector = read_exactly(image_, extent * kSector + done, kSector, "ISO 9660 folder");
    load_rows(folder, sector, extent * kSector + done);
  }
  if (folder.self.empty() || folder.parent.empty())
    throw Malformed("ISO 9660: a folder without its own records");
  for (auto& row : folder.rows) {
    if (!row->folder) continue;
    row->folder->above = &folder;
    load(*row->folder, row->first.extent, row->first.size);
  }
}

void TreeLoader::load_rows(DiscFolder& folder, ByteView sector, std::uint64_t at) {
  for (std::size_t i = 0; i < sector.size() && sector[i] != 0; i += sector[i]) {
    ByteView raw = sector.subspan(i);
    Record record = reader_.read(raw, ridge_);
    Bytes bytes(raw.begin(), raw.begin() + raw[0]);
    if (record.is_self_or_parent()) {
      (record.raw_name[0] == 0 ? folder.self : folder.parent) = std::move(bytes);
      continue;
    }
    if (record.ridge.child || record.ridge.relocated)
      throw Unsupported("writing a disc with folders that were moved up (Rock Ridge, CL)");
    if (record.unit != 0) throw Unsupported("writing a disc with interleaved files");
    if (!goes_on_) {
      auto row = std::make_unique<DiscRow>();
      row->first = record;
      row->name = name_of_(record);
      if (record.is_folder()) row->folder = std::make_unique<DiscFolder>();
      folder.rows.push_back(std::move(row));
    }
    DiscRow& row = *folder.rows.back();
    row.records.push_back(std::move(bytes));
    row.at.push_back(at + i);
    row.size += record.size;
    goes_on_ = record.goes_on();
  }
}

void pair_trees(DiscFolder& a, DiscFolder& b) {
  auto kind = [](const DiscRow& row) { return row.folder ? "d" : "f"; };
  join_by(a, b, [&](const DiscRow& row) { return kind(row) + to_lower(row.name); });
  join_by(a, b, [&](const DiscRow& row) {
    std::uint64_t data = row.folder ? first_data(*row.folder) : row.size > 0 ? row.first.extent : 0;
    return data == 0 ? "" : kind(row) + std::to_string(data);
  });
  join_by(a, b, [&](const DiscRow& row) { return row.folder ? std::string("d") : ""; });
}

std::uint64_t length_of(const DiscFolder& folder) {
  std::uint64_t at = folder.self.size() + folder.parent.size();
  for (const auto& row : folder.rows) {
    for (const Bytes& record : row->records) {
      std::uint64_t left = kSector - at % kSector;
      if (left < record.size()) at += left;
      at += record.size();
    }
  }
  return at;
}

Bytes bytes_of(const DiscFolder& folder) {
  Bytes out = folder.self;
  out.insert(out.end(), folder.parent.begin(), folder.parent.end());
  for (const auto& row : folder.rows) {
    for (const Bytes& record : row->records) {
      std::size_t left = kSector - out.size() % kSector;
      if (left < record.size()) out.resize(out.size() + left);
      out.insert(out.end(), record.begin(), record.end());
    }
  }
  out.resize(static_cast<std::size_t>(folder.size));
  return out;
}

Bytes path_table_of(const DiscTree& tree, bool big_endian) {
  Bytes out;
  struct Row {
    const DiscFolder* folder;
    ByteView name;
    std::size_t above;  // its number
  };
  static constexpr Byte kRootName[] = {0};
  std::vector<Row> rows = {{&tree.root, kRootName, 1}};
  for (std::size_t i = 0; i < rows.size(); ++i) {  // level by level: folders of one level by their parents
    for (const auto& row : rows[i].folder->rows) {
      if (row->folder) rows.push_back({row->folder.get(), row->identifier(), i + 1});
    }
  }
  if (rows.size() > UINT16_MAX) throw Unsupported("more than 65,535 folders on an ISO 9660 disc");
  for (const Row& row : rows) {
    PathRow head{static_cast<std::uint8_t>(row.name.size()), 0,
                 static_cast<std::uint32_t>(row.folder->extent), static_cast<std::uint16_t>(row.above)};
    big_endian ? append_structure<PathRow, std::endian::big>(out, head) : append_structure(out, head);
    out.insert(out.end(), row.name.begin(), row.name.end());
    if (row.name.size() % 2 != 0) out.push_back(0);
  }
  return out;
}

}  // namespace operculum::iso
