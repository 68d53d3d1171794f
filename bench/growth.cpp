#include "growth.h"

#include "support/byte_writer.h"
#include "support/ext_writer.h"
#include "support/zip_builder.h"
#include "workload.h"

namespace operculum::bench {
namespace {

using namespace test;

/// A ZIP of small texts, of words that say nothing of a language.
void make_texts(const std::string& path, std::uint32_t count) {
  Measure::forked([&] {
    ZipBuilder builder;
    for (std::uint32_t i = 0; i < count; ++i) {
      std::string text = "The limpet of pool " + std::to_string(i);
      for (std::uint32_t word = 0; word < 40; ++word) text += word * i % 3 == 0 ? " holds on" : " and waits";
      builder.add("labels/text " + std::to_string(i) + ".txt", text + ".\n");
    }
    write_file(path, builder.build());
  });
}

void kinds(Measure& m) {
  std::string few = m.folder + "/few.zip", many = m.folder + "/many.zip";
  make_texts(few, 2'000);
  make_texts(many, 20'000);
  m.compare("sort 20,000 small texts by kind (2,000)", 12,
            [&] {
              return run({m.program, "list", "--summary", few}).seconds;
            },
            {m.program, "list", "--summary", many});
  m.compare("sort 20,000 small texts by kind (decoding them, one thread)", 6,
            [&] {
              return run({m.program, "verify", "--jobs", "1", many}).seconds;
            },
            {m.program, "list", "--summary", many});
}

void patterns(Measure& m) {
  std::string path = m.folder + "/million.zip";
  make_zip_of_many(path, 1'000'000);
  std::vector<std::string> words = {m.program, "list", "--paths", path};
  auto one = words;
  one.insert(one.end(), {"--match", "*specimen-17*.txt"});
  for (int i = 0; i < 200; ++i)
    words.insert(words.end(), {"--match", "*specimen-" + std::to_string(i * 7) + "*.txt"});
  m.compare(
      "choose from 1,000,000 entries by 200 patterns (by one)", 5, [&] { return run(one).seconds; }, words);
}

/// One name of a large folder, and of a small one.
void one_name(Measure& m) {
  auto make = [&](const std::string& path, std::size_t count, std::size_t size) {
    Measure::forked([&] {
      SampleTree tree = {{.path = "many", .kind = EntryKind::folder}};
      for (std::size_t i = 0; i < count; ++i)
        tree.push_back({.path = "many/reading " + std::to_string(i), .data = to_bytes("x")});
      write_file(path, make_ext(tree, size));
    });
  };
  std::string small = m.folder + "/small.img", large = m.folder + "/large.img";
  make(small, 10, 4 << 20);
  make(large, 30'000, 256 << 20);
  m.compare("show one of 30,000 files in a folder of ext4 (of 10)", 2.5,
            [&] {
              return run({m.program, "show", small + "/many/reading 7"}).seconds;
            },
            {m.program, "show", large + "/many/reading 27182"});
}

/// Each record of a description finds another by its number.
void look_ups(Measure& m) {
  std::string layout = m.folder + "/tides.layout";
  write_file(layout, to_bytes("layout \"Tides\"\nrecord Row {\n  id u32\n  value u32\n}\ncount = u32 at 0\n"
                              "items = Row[count] at 4\nentry for i in range(0, count) {\n  path = \"{i}\"\n"
                              "  data = bytes(first(r in items where r.id == i).value, 1)\n}\n"));
  auto make = [&](const std::string& name, std::uint32_t count) {
    ByteWriter out;
    out.u32(count);
    for (std::uint32_t i = 0; i < count; ++i)
      out.u32(static_cast<std::uint32_t>(std::uint64_t{i} * 7919 % count)).u32(i);
    write_file(m.folder + "/" + name, out.take());
    return std::vector<std::string>{m.program, "list", "--paths", "--layout", layout, m.folder + "/" + name};
  };
  auto few = make("few.tides", 100'000), many = make("many.tides", 1'000'000);
  m.compare(
      "look up 1,000,000 records by a number (100,000)", 15, [&] { return run(few).seconds; }, many);
}

}  // namespace

void measure_growth(Measure& measure, std::string_view only) {
  const Measure::Row all[] = {
      {"kinds", kinds}, {"patterns", patterns}, {"one-name", one_name}, {"look-ups", look_ups}};
  measure.run_rows(all, only);
}

}  // namespace operculum::bench
