#include "described_table.h"

#include <fmt/format.h>

#include <fstream>
#include <stdexcept>

#include "base/cursor.h"
#include "io/file_source.h"
#include "layout/described_container.h"
#include "layout/library.h"
#include "support/byte_writer.h"

namespace operculum::bench {
namespace {

constexpr std::uint64_t kHeader = 48, kRecord = 40;
constexpr std::uint64_t kBlock = 6400;  // records read in one go

}  // namespace

void make_shoal_of_many(const std::string& path, std::uint64_t records) {
  test::ByteWriter out;
  out.text("SHOAL\x1a").u16(1).u32(records).u64(kHeader).zeros(28);
  for (std::uint64_t i = 0; i < records; ++i) {
    std::string name = fmt::format("textures/{:07}.png", i);
    name.resize(24);
    out.text(name).u32(3).u32(0).u32(0).u32(0);
  }
  std::ofstream file(path, std::ios::binary);
  file.write(reinterpret_cast<const char*>(out.view().data()), static_cast<std::streamsize>(out.size()));
}

void list_shoal_by_hand(const std::string& path) {
  SourcePtr source = open_file(path);
  Bytes head = read_exactly(*source, 0, kHeader, "header");
  Cursor header(head, "shoal header");
  if (header.text(6) != "SHOAL\x1a" || header.u16le() > 3) throw std::runtime_error("no shoal");
  std::uint64_t count = header.u32le(), at = header.u64le();
  std::vector<Entry> entries;
  entries.reserve(count);
  for (std::uint64_t done = 0; done < count; done += kBlock) {
    std::uint64_t records = std::min(kBlock, count - done);
    Bytes table = read_exactly(*source, at + done * kRecord, records * kRecord, "table");
    Cursor cursor(table, "shoal table");
    for (std::uint64_t i = 0; i < records; ++i) {
      Entry& entry = entries.emplace_back();
      std::string_view name = cursor.text(24);
      entry.path = name.substr(0, name.find('\0'));
      clean_in_place(entry.path);
      entry.stored_at = std::uint64_t{cursor.u32le()} * 16;
      entry.stored_size = cursor.u32le();
      entry.size = cursor.u32le();
      entry.crc32 = cursor.u32le();
      entry.flags = Entry::has_crc;
      if (entry.stored_at > source->size() || entry.stored_size > source->size() - entry.stored_at)
        entry.flags |= Entry::damaged;
      if (entry.stored_size < entry.size) entry.method = "deflate";
    }
  }
}

void list_shoal_described(const std::string& path) {
  auto plan = layout::Library::read(std::string(OPERCULUM_SOURCE) + "/layouts/shoal.layout").compiled.plan;
  SourcePtr source = open_file(path);
  OpenContext context;
  context.limits.begin(source->size(), source->size());
  auto container = layout::open_described(plan, {make_content(source), "many.shoal"}, source, context);
  std::uint64_t known = 0;
  container->each(Detail::all, [&](const Entry& entry) { known += entry.size_known(); });
  if (known == 0) throw std::runtime_error("nothing listed");
}

}  // namespace operculum::bench
