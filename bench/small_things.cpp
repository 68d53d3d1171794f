#include "small_things.h"

#include <fstream>

#include "support/tar_builder.h"
#include "support/zip_builder.h"
#include "workload.h"

namespace operculum::bench {
namespace {

using namespace test;

/// Files of 200 bytes, against the system's own tar.
void tiny_files(Measure& m) {
  std::string tar = m.folder + "/tiny.tar";
  Measure::forked([&] {
    TarBuilder builder;
    for (int i = 0; i < 100'000; ++i)
      builder.file("drawer-" + std::to_string(i / 500) + "/specimen-" + std::to_string(i) + ".txt",
                   std::string(200, 'x'));
    write_file(tar, builder.build());
  });
  auto base = [&] { return run({"tar", "xf", tar, "-C", m.out()}).seconds; };
  m.compare("unpack a tar of 100,000 tiny files, one thread (tar xf)", 1.0, base,
            {m.program, "unpack", "-q", tar, "--into", m.out() + "/x", "--jobs", "1"});
  m.compare("the same on all processors", 0.7, base,
            {m.program, "unpack", "-q", tar, "--into", m.out() + "/x"});
  std::filesystem::remove(tar);
}

/// Entries of nothing: what the way to each costs.
void verify_many(Measure& m) {
  std::string few = m.folder + "/few.zip", many = m.folder + "/many.zip";
  Measure::forked([&] { make_zip_of_many(few, 100'000); });
  Measure::forked([&] { make_zip_of_many(many, 1'000'000); });
  m.compare("verify a ZIP of 1,000,000 entries (100,000)", 12,
            [&] {
              return run({m.program, "verify", few}).seconds;
            },
            {m.program, "verify", many});
  m.compare("the same (one thread)", 0.55,
            [&] {
              return run({m.program, "verify", "--jobs", "1", many}).seconds;
            },
            {m.program, "verify", many});
}

/// Entries that all have the same name are numbered.
void equal_names(Measure& m) {
  auto make = [&](const std::string& path, int count) {
    Measure::forked([&] {
      ZipBuilder builder;
      for (int i = 0; i < count; ++i) builder.stored("crab.txt", to_bytes("red"));
      write_file(path, builder.build());
    });
  };
  std::string few = m.folder + "/few-names.zip", many = m.folder + "/many-names.zip";
  make(few, 1'600);
  make(many, 16'000);
  m.compare("unpack 16,000 entries of one name (1,600)", 12,
            [&] {
              return run({m.program, "unpack", "-q", few, "--into", m.out() + "/x"}).seconds;
            },
            {m.program, "unpack", "-q", many, "--into", m.out() + "/x"});
}

/// Patterns with ** on paths of many folders.
void deep_paths(Measure& m) {
  auto make = [&](const std::string& path, int depth) {
    Measure::forked([&] {
      ZipBuilder builder;
      for (int i = 0; i < 2'000; ++i) {
        std::string name;
        for (int level = 0; level < depth; ++level) name += "d" + std::to_string(i * level % 7) + "/";
        builder.stored(name + "f" + std::to_string(i), {});
      }
      write_file(path, builder.build());
    });
  };
  std::string shallow = m.folder + "/shallow.zip", deep = m.folder + "/deep.zip",
              pattern = "**/d3/**/d5/**/f1*";
  make(shallow, 30);
  make(deep, 300);
  m.compare("choose by ** from paths of 300 folders (30)", 12,
            [&] {
              return run({m.program, "list", "--paths", shallow, "--match", pattern}).seconds;
            },
            {m.program, "list", "--paths", deep, "--match", pattern});
}

/// Bytes that listings keep of each entry, beyond what one without any takes.
void kept_bytes(Measure& m) {
  constexpr std::uint64_t kEntries = 1'000'000, kGoal = 120;
  std::string path = m.folder + "/kept.zip";
  Measure::forked([&] { make_zip_of_many(path, kEntries); });
  std::uint64_t none = run({m.program, "list", path}).peak_memory;
  const std::pair<const char*, std::vector<std::string>> kListings[] = {
      {"list --tree", {m.program, "list", "--tree", path}},
      {"list --sort size", {m.program, "list", "--sort", "size", path}}};
  for (const auto& [what, words] : kListings) {
    std::uint64_t bytes = (run(words).peak_memory - none) / kEntries;
    m.failed |= bytes > kGoal;
    fmt::print("{:<58} {} bytes an entry more than list (goal {})  {}\n", what, bytes, kGoal,
               bytes <= kGoal ? "reached" : "MISSED");
  }
  std::filesystem::remove(path);
}

/// From the start of the process to its end, beyond one that does nothing.
void start(Measure& m) {
  constexpr int kRuns = 41;
  std::string small = m.folder + "/small.txt";
  std::ofstream(small) << "high water at noon\n";
  struct Case {
    const char* what;
    double goal;  ///< ms
    std::vector<std::string> words;
  };
  for (const Case& one : {Case{"start (--version)", 3, {m.program, "--version"}},
                          Case{"identify a small file", 4, {m.program, "identify", small}}}) {
    std::vector<double> base, ours;
    for (int i = 0; i < kRuns; ++i) {
      base.push_back(run({"true"}).seconds);
      ours.push_back(run(one.words).seconds);
    }
    double more = (Measure::median(ours) - Measure::median(base)) * 1000;
    m.failed |= more > one.goal;
    fmt::print("{:<58} {:.1f} ms more than true (goal {})  {}\n", one.what, more, one.goal,
               more <= one.goal ? "reached" : "MISSED");
  }
}

}  // namespace

void measure_small_things(Measure& measure, std::string_view only) {
  const Measure::Row all[] = {{"tiny", tiny_files}, {"verify-many", verify_many}, {"names", equal_names},
                              {"deep", deep_paths}, {"kept", kept_bytes},         {"start", start}};
  measure.run_rows(all, only);
}

}  // namespace operculum::bench
