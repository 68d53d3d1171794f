#include "format/archive/zip_end.h"

#include "format/archive/zip_records.h"

namespace operculum::zip {
namespace {

void add_wide_end(Assembly& out, const Archive& archive, const WrittenDirectory& now) {
  const EndRecord& end = archive.place.end;
  std::uint64_t at = out.size() - archive.place.prefix;
  Zip64End wide;
  if (end.zip64)
    wide = read_structure<Zip64End>(
        read_exactly(*archive.source, end.begin, kZip64EndSize, "zip64 end record").data());
  wide.disk = wide.directory_disk = 0;
  wide.entries = wide.entries_here = now.count;
  wide.directory_size = now.size;
  wide.directory_offset = now.offset;
  Bytes raw;
  append_structure(raw, wide);
  out.add(std::move(raw));
  if (end.zip64)  // extensible data
    out.keep(archive.source, end.begin + kZip64EndSize, end.position - kZip64LocatorSize);
  Zip64Locator locator;
  locator.end_offset = at;
  Bytes located;
  append_structure(located, locator);
  out.add(std::move(located));
}

}  // namespace

void add_end_records(Assembly& out, const Archive& archive, const WrittenDirectory& now) {
  const EndRecord& end = archive.place.end;
  bool joined_volumes = !archive.place.volume_starts.empty();
  bool same = now.offset == end.directory_offset && now.size == end.directory_size &&
              now.count == end.entries && !joined_volumes;
  if (same) return out.keep(archive.source, end.begin, archive.source->size());
  Bytes plain = read_exactly(*archive.source, end.position, kEndSize, "zip end record");
  auto record = read_structure<PlainEnd>(plain.data());
  bool needs_wide = now.count >= kCount16 || now.offset >= kSize32 || now.size >= kSize32;
  if (end.zip64 || needs_wide) add_wide_end(out, archive, now);
  auto narrow = [&](auto& member, std::uint64_t value) {
    using Number = std::remove_reference_t<decltype(member)>;
    constexpr auto kAllOnes = static_cast<Number>(-1);
    bool stays_wide = end.zip64 && member == kAllOnes;
    member = stays_wide || value >= kAllOnes ? kAllOnes : static_cast<Number>(value);
  };
  record.disk = record.directory_disk = 0;
  narrow(record.entries_here, now.count);
  narrow(record.entries, now.count);
  narrow(record.directory_size, now.size);
  narrow(record.directory_offset, now.offset);
  write_structure(record, plain.data());
  out.add(std::move(plain));
  out.keep(archive.source, end.position + kEndSize, archive.source->size());
}

}  // namespace operculum::zip
