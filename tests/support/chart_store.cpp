#include "support/chart_store.h"

#include <fmt/format.h>

#include <vector>

#include "codec/codec.h"
#include "support/byte_writer.h"

namespace operculum::test {
namespace {

constexpr std::string_view kPlaces[] = {"bar",       "basin",  "channel", "causeway", "ferry",
                                        "fairway",   "groyne", "jetty",   "lock",     "mole",
                                        "pilot-hut", "quay",   "roads",   "slipway"};

/// Soundings as lines of text, some of them short enough that packing them gains nothing.
Bytes soundings(std::string_view place, unsigned year, std::size_t number) {
  ByteWriter out;
  if (number % 5 == 4) return out.text(fmt::format("{} {}: dry\n", place, year)).take();
  for (std::size_t i = 0; i < 12 + number * 9; ++i)
    out.text(fmt::format("{} {} {:02}: {}.{} m\n", place, year, i, (i * 7 + number * 3 + year) % 19,
                         (i * i + number) % 10));
  return out.take();
}

}  // namespace

ChartStore chart_store(unsigned year) {
  struct Record {
    std::string name;
    std::size_t at, stored, size;
  };
  ChartStore store;
  std::vector<Record> records;
  ByteWriter data;
  constexpr std::size_t kHeader = 16;
  for (std::size_t i = 0; i < std::size(kPlaces); ++i) {
    std::string name = fmt::format("charts/{}.snd", kPlaces[i]);
    Bytes plain = soundings(kPlaces[i], year, i), packed = encode("zlib", plain);
    const Bytes& stored = packed.size() < plain.size() ? packed : plain;
    data.align(4);
    records.push_back({name, kHeader + data.size(), stored.size(), plain.size()});
    data.bytes(stored);
    store.files[name] = std::move(plain);
  }
  data.align(4);
  ByteWriter out;
  out.text("HOBCHART").u32(records.size()).u32(kHeader + data.size()).bytes(data.view());
  for (const Record& record : records) {
    std::string name = record.name;
    name.resize(24);
    out.text(name)
        .u32(record.at)
        .u32(record.stored)
        .u32(record.size)
        .u32(700000000 + year * 1000 + record.size);
  }
  store.bytes = out.take();
  return store;
}

}  // namespace operculum::test
