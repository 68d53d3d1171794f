#include "format/archive/zip_extra.h"

#include <algorithm>

#include "base/error.h"

namespace operculum::zip {
namespace {

constexpr std::size_t kFieldHeader = 4;      // id and size
constexpr std::size_t kAlignmentHead = 6;    // of an alignment field: its header and the alignment
constexpr std::uint16_t kVersionZip64 = 45;  // 4.4.3.2

void put16(Bytes& out, std::uint64_t value) {
  out.push_back(static_cast<Byte>(value));
  out.push_back(static_cast<Byte>(value >> 8));
}

void put64(Bytes& out, std::uint64_t value) {
  for (int i = 0; i < 64; i += 8) out.push_back(static_cast<Byte>(value >> i));
}

/// Calls `visit(id, field with its header)` for each field; returns what is behind the last one.
template <typename Visit>
ByteView each_field(ByteView extra, Visit visit) {
  while (extra.size() >= kFieldHeader) {
    std::size_t size = kFieldHeader + load_little<std::uint16_t>(extra.data() + 2);
    auto id = load_little<std::uint16_t>(extra.data());
    if (size > extra.size() || (id == 0 && size == kFieldHeader)) break;
    visit(id, extra.first(size));
    extra = extra.subspan(size);
  }
  return extra;
}

void append(Bytes& out, ByteView bytes) {
  out.insert(out.end(), bytes.begin(), bytes.end());
}

}  // namespace

Bytes without_fields(ByteView extra, std::initializer_list<std::uint16_t> ids) {
  Bytes out;
  ByteView rest = each_field(extra, [&](std::uint16_t id, ByteView whole) {
    if (std::find(ids.begin(), ids.end(), id) == ids.end()) append(out, whole);
  });
  append(out, rest);
  return out;
}

bool has_field(ByteView extra, std::uint16_t id) {
  bool found = false;
  each_field(extra, [&](std::uint16_t own, ByteView) { found |= own == id; });
  return found;
}

Bytes with_field(ByteView extra, std::uint16_t id, ByteView data) {
  Bytes out;
  put16(out, id);
  put16(out, data.size());
  append(out, data);
  append(out, extra);
  return out;
}

Bytes widen(LocalHeader& header, ByteView extra, bool always) {
  Bytes rest = without_fields(extra, {zip64_field});
  if (!always && header.compressed_size < kSize32 && header.uncompressed_size < kSize32) return rest;
  Bytes values;
  put64(values, header.uncompressed_size);
  put64(values, header.compressed_size);
  header.uncompressed_size = header.compressed_size = kSize32;
  header.version_needed = std::max(header.version_needed, kVersionZip64);
  return with_field(rest, zip64_field, values);
}

Bytes widen(CentralHeader& header, ByteView extra, const CentralHeader& before) {
  Bytes rest = without_fields(extra, {zip64_field});
  Bytes values;
  for (auto member :
       {&CentralHeader::uncompressed_size, &CentralHeader::compressed_size, &CentralHeader::local_offset}) {
    if (header.*member < kSize32 && before.*member != kSize32) continue;
    put64(values, header.*member);
    header.*member = kSize32;
  }
  if (values.empty()) return rest;
  header.version_needed = std::max(header.version_needed, kVersionZip64);
  return with_field(rest, zip64_field, values);
}

Padding padding_of(ByteView extra) {
  Padding padding;
  ByteView rest = each_field(extra, [&](std::uint16_t id, ByteView whole) {
    if (id != alignment_field || whole.size() < kAlignmentHead) return;
    padding.size = whole.size();
    padding.field_alignment = load_little<std::uint16_t>(whole.data() + kFieldHeader);
  });
  bool zeros = std::all_of(rest.begin(), rest.end(), [](Byte b) { return b == 0; });
  if (padding.size == 0 && zeros) padding.size = rest.size();
  return padding;
}

Bytes aligned(ByteView extra, std::uint64_t data_at, std::uint64_t alignment) {
  Padding before = padding_of(extra);
  Bytes out = without_fields(extra, {alignment_field});
  if (before.field_alignment == 0) out.resize(out.size() - before.size);
  std::uint64_t at = data_at + out.size();
  auto missing = static_cast<std::size_t>((alignment - at % alignment) % alignment);
  if (before.field_alignment == 0) {
    out.resize(out.size() + missing);
    return out;
  }
  while (missing < kAlignmentHead) missing += alignment;
  put16(out, alignment_field);
  put16(out, missing - kFieldHeader);
  put16(out, before.field_alignment);
  out.resize(out.size() + missing - kAlignmentHead);
  return out;
}

}  // namespace operculum::zip
