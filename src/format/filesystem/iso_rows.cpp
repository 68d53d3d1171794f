#include "format/filesystem/iso_rows.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/cursor.h"
#include "base/error.h"
#include "base/text.h"
#include "format/filesystem/iso_fields.h"

namespace operculum::iso {
namespace {

constexpr std::size_t kContinuationField = size_on_disk<Continuation>;
constexpr std::uint64_t kLargestPart = (std::uint64_t{1} << 32) - kSector;

std::string_view letters_of(const Bytes& field) {
  return as_text(field).substr(0, 2);
}

Bytes joined(std::vector<Bytes>::const_iterator begin, std::vector<Bytes>::const_iterator end) {
  Bytes out;
  for (; begin != end; ++begin) out.insert(out.end(), begin->begin(), begin->end());
  return out;
}

}  // namespace

std::unique_ptr<DiscRow> RowMaker::make(const std::string& name, const TreeNode& node,
                                        const std::set<Bytes>& taken) const {
  auto row = std::make_unique<DiscRow>();
  row->name = name;
  row->node = &node;
  bool is_folder = node.kind == EntryKind::folder;
  Bytes identifier = identifier_for(name, is_folder, form_, exact_, taken);
  row->records.push_back(folder_record(0, 0, node.modified, is_folder ? folder_flag : 0, identifier, {}));
  row->at.push_back(0);
  lay_out(*row, identifier, {}, ridge_ ? ridge_fields(name, node) : std::vector<Bytes>{});
  if (is_folder) {
    row->folder = std::make_unique<DiscFolder>();
    static constexpr Byte kSelf[] = {0}, kParent[] = {1};
    Bytes px = ridge_ ? ridge_fields("", node).front() : Bytes{};
    row->folder->self = folder_record(0, 0, node.modified, folder_flag, kSelf, px);
    row->folder->parent = folder_record(0, 0, node.modified, folder_flag, kParent, px);
    row->folder->changed = true;
  }
  return row;
}

void RowMaker::rename(DiscRow& row, const std::string& name, const TreeNode& node,
                      const std::set<Bytes>& taken) const {
  Bytes identifier = identifier_for(name, node.kind == EntryKind::folder, form_, exact_, taken);
  ByteView raw = row.records.front();
  Bytes foreign(reader_.foreign(raw).begin(), reader_.foreign(raw).end());
  std::vector<Bytes> fields;
  if (ridge_) {
    for (Bytes& field : reader_.fields(raw)) {
      if (letters_of(field) != "NM") fields.push_back(std::move(field));
    }
    for (Bytes& field : name_fields(name)) fields.push_back(std::move(field));
  }
  row.name = name;
  lay_out(row, identifier, foreign, fields);
}

void RowMaker::as_plain_content(DiscRow& row) const {
  if (!row.first.ridge.zisofs && !row.first.ridge.virtual_size) return;
  ByteView raw = row.records.front();
  Bytes identifier = row.first.raw_name, foreign(reader_.foreign(raw).begin(), reader_.foreign(raw).end());
  std::vector<Bytes> fields = reader_.fields(raw);
  std::erase_if(fields, [](const Bytes& one) { return letters_of(one) == "ZF" || letters_of(one) == "SF"; });
  lay_out(row, identifier, foreign, fields);
}

/// The head of the record stays, what follows is made of these; fields that do not fit go on elsewhere.
void RowMaker::lay_out(DiscRow& row, ByteView identifier, ByteView foreign,
                       const std::vector<Bytes>& fields) const {
  std::size_t own = size_on_disk<FolderRecord> + identifier.size() + (identifier.size() % 2 == 0 ? 1 : 0);
  std::size_t front = own + foreign.size();
  if (front > longest_record)
    throw Unsupported(fmt::format("the name \"{}\" on an ISO 9660 disc", escape(row.name)));
  std::size_t room = longest_record - front, taken = 0;
  auto next = fields.begin();
  if (joined(fields.begin(), fields.end()).size() > room) room -= kContinuationField;
  while (next != fields.end() && taken + next->size() <= room) taken += next++->size();
  Bytes area(foreign.begin(), foreign.end());
  Bytes here = joined(fields.begin(), next);
  area.insert(area.end(), here.begin(), here.end());
  row.continuation = joined(next, fields.end());
  if (row.continuation.size() > kSector)
    throw Unsupported(fmt::format("so much about \"{}\" on an ISO 9660 disc", escape(row.name)));
  if (!row.continuation.empty()) {
    row.continuation_at = own + area.size();
    Bytes more = system_use_field("CE", Continuation{});
    area.insert(area.end(), more.begin(), more.end());
  }
  row.first.raw_name.assign(identifier.begin(), identifier.end());
  for (Bytes& record : row.records) {
    Bytes made = folder_record(0, 0, {}, 0, identifier, area);
    constexpr std::size_t stays_at = 1,
                          stays_end = size_on_disk<FolderRecord> - 1;  // but for its two lengths
    std::copy(record.begin() + stays_at, record.begin() + stays_end, made.begin() + stays_at);
    record = std::move(made);
  }
}

DataParts parts_at(std::uint64_t extent, std::uint64_t size) {
  if (size == 0) return {{0, 0}};
  DataParts out;
  for (std::uint64_t done = 0; done < size; done += kLargestPart)
    out.emplace_back(static_cast<std::uint32_t>(extent + done / kSector),
                     static_cast<std::uint32_t>(std::min(kLargestPart, size - done)));
  return out;
}

DataParts parts_of(const DiscRow& row) {
  DataParts out;
  for (const Bytes& record : row.records) {
    auto head = read_structure<FolderRecord>(record.data());
    out.emplace_back(head.extent, head.data_length);
  }
  return out;
}

bool lead_to(DiscRow& row, const DataParts& parts) {
  bool as_many = row.records.size() == parts.size();
  row.records.resize(parts.size(), row.records.front());
  row.size = 0;
  for (std::size_t i = 0; i < parts.size(); ++i) {
    Byte* record = row.records[i].data();
    set_place(record, parts[i].first, parts[i].second);
    write_field(&FolderRecord::attribute_length, 0, record);  // no such record lies in front of it
    std::uint8_t flags = read_field(&FolderRecord::flags, record) & static_cast<std::uint8_t>(~goes_on_flag);
    if (i + 1 < parts.size()) flags |= goes_on_flag;
    write_field(&FolderRecord::flags, flags, record);
    row.size += parts[i].second;
  }
  row.first.extent = parts.front().first;
  row.first.size = parts.front().second;
  return !as_many;
}

}  // namespace operculum::iso
