// Speed and memory of the built program, as ratios against the least that must be done, measured in the same
// run. usage: operculum_bench PROGRAM [ROW [FOLDER]]
// FOLDER is made for it and should be on tmpfs; /dev/shm/operculum-bench unless given.
#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <filesystem>
#include <fstream>

#include "collections.h"
#include "container/locator.h"
#include "described_table.h"
#include "firmware.h"
#include "growth.h"
#include "images.h"
#include "io/file_source.h"
#include "measure.h"
#include "packages.h"
#include "rebuild.h"
#include "small_things.h"
#include "solid.h"
#include "study.h"
#include "workload.h"

namespace {

using namespace operculum;
using namespace operculum::bench;

struct Bench : Measure {
  void zip_of_files() {
    std::string zip = folder + "/files.zip";
    forked([&] { make_zip_of_files(zip, 10'000, 107'374); });
    compare(
        "unpack a ZIP of 10,000 deflated files, 1 GiB", 0.65,
        [&] { return forked([&] { unpack_zip_raw(zip, out()); }); },
        {program, "unpack", "-q", zip, "--into", out() + "/x"}, std::uint64_t{128} << 20);
    std::filesystem::remove(zip);
  }

  void stored() {
    std::string zip = folder + "/stored.zip";
    forked([&] { make_stored_zip(zip, std::uint64_t{1} << 30); });
    compare(
        "unpack one stored 1 GiB entry (baseline: cp)", 1.15,
        [&] {
          return run({"cp", zip, out() + "/copy"}).seconds;
        },
        {program, "unpack", "-q", zip, "--into", out() + "/x"}, std::uint64_t{128} << 20);
    std::filesystem::remove(zip);
  }

  void tar_zst() {
    std::string tar = folder + "/files.tar.zst";
    forked([&] { make_tar_zst(tar, 50'000, 21'474); });
    compare(
        "unpack a 1 GiB tar.zst of 50,000 files", 1.2,
        [&] { return forked([&] { unpack_tar_zst_raw(tar, out()); }); },
        {program, "unpack", "-q", tar, "--into", out() + "/x"}, std::uint64_t{136} << 20);
    std::filesystem::remove(tar);
  }

  void list_many() {
    std::string zip = folder + "/many.zip";
    constexpr std::uint64_t kEntries = 1'000'000;
    forked([&] { make_zip_of_many(zip, kEntries); });
    std::uint64_t idle = run({program, "--version"}).peak_memory;
    compare(
        "list a ZIP of 1,000,000 entries (--paths)", 4.0, [&] { return forked([&] { list_zip_raw(zip); }); },
        {program, "list", "--paths", zip}, idle + 300 * kEntries);
    std::filesystem::remove(zip);
  }

  /// What the sandbox costs a run that does next to nothing, and one that decodes all the time.
  void sandbox() {
    constexpr int kRuns = 41;
    std::string small = folder + "/small.zip", large = folder + "/files.zip";
    forked([&] { make_zip_of_files(large, 5'000, 107'374); });
    std::ofstream(small, std::ios::binary)
        << std::string_view("PK\x05\x06\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0", 22);
    std::vector<double> with, without, long_with, long_without;
    for (int i = 0; i < kRuns; ++i) {
      with.push_back(run({program, "list", small}).seconds);
      without.push_back(run({program, "list", small, "--no-sandbox"}).seconds);
    }
    for (int i = 0; i < kRounds; ++i) {
      long_with.push_back(run({program, "verify", large}).seconds);
      long_without.push_back(run({program, "verify", large, "--no-sandbox"}).seconds);
    }
    double more = (median(with) - median(without)) * 1000, ratio = median(long_with) / median(long_without);
    bool good = more < 3 && ratio < 1.02;
    failed |= !good;
    fmt::print("{:<58} {:.2f} ms more to start (goal under 3), verify {:.3f}x of without (goal 1.02x)  {}\n",
               "the sandbox", more, ratio, good ? "reached" : "MISSED");
    std::filesystem::remove(large);
  }

  void identify_sparse() {
    std::string image = folder + "/sparse.img";
    if (truncate((std::ofstream(image), image).c_str(), off_t{8} << 30) != 0) return;
    std::vector<double> version, identify;
    std::uint64_t version_read = 0, identify_read = 0;
    for (int round = 0; round < 15; ++round) {
      Cost a = run({program, "--version"}), b = run({program, "identify", image});
      version.push_back(a.seconds);
      identify.push_back(b.seconds);
      version_read = a.bytes_read;
      identify_read = b.bytes_read;
    }
    double more = (median(identify) - median(version)) * 1000;
    bool good = more < 20 && identify_read - version_read < (1 << 20);
    failed |= !good;
    fmt::print("{:<58} {:.1f} ms over --version (goal under 20), {} read more (goal under 1 MiB)  {}\n",
               "identify on an 8 GiB sparse file", more, human_size(identify_read - version_read),
               good ? "reached" : "MISSED");
    std::filesystem::remove(image);
  }

  /// The same table read by code written for it, which keeps all entries, and by its description.
  void described_table() {
    std::string pack = folder + "/many.shoal";
    constexpr std::uint64_t kRecords = 1'000'000;
    make_shoal_of_many(pack, kRecords);
    std::vector<double> base, ours;
    std::uint64_t memory = 0, idle = measured([] {}).peak_memory;
    for (int round = 0; round < kRounds; ++round) {
      base.push_back(measured([&] { list_shoal_by_hand(pack); }).seconds);
      Cost cost = measured([&] { list_shoal_described(pack); });
      ours.push_back(cost.seconds);
      memory = std::max(memory, cost.peak_memory - std::min(cost.peak_memory, idle));
    }
    double ratio = median(ours) / median(base);
    bool good = ratio <= 1.6 && memory <= 120 * kRecords;
    failed |= !good;
    fmt::print(
        "{:<58} {:7.3f} s {:7.3f} s  {:5.2f}x  (goal 1.60x)  {:>10}  {}; {} bytes an entry (goal 120)\n",
        "list a described table of 1,000,000 records", median(base), median(ours), ratio, human_size(memory),
        good ? "reached" : "MISSED", memory / kRecords);
    std::filesystem::remove(pack);
  }

  /// The baseline decodes just the blocks that hold what must be read: the tar headers, both ZIP directories
  /// and the entry.
  void show_nested() {
    std::string card = folder + "/card.tar.xz";
    forked([&] { make_nested(card, folder); });
    std::vector<std::uint64_t> places;
    std::uint64_t end = 0;
    OpenContext context;
    Place tar = resolve(card, context, Step::into);
    for (const Entry& entry : tar.layers.back().container->entries()) {
      places.push_back(entry.stored_at - 512);
      end = entry.stored_at + entry.size;
      if (entry.path != "kiosk.zip") continue;
      places.push_back(entry.stored_at + entry.size / 2);
      places.push_back(end - 1);
    }
    places.push_back(end);
    auto decode_blocks = [&] {
      OpenContext own;
      Opened xz = open_container({make_content(open_file(card)), "card.tar.xz"}, own);
      SourcePtr source = xz.container->content(0)->source();
      for (std::uint64_t place : places) read_up_to(*source, place, 512);
    };
    compare("show one 4 KiB entry three containers deep", 2.0, [&] { return forked(decode_blocks); },
            {program, "show", card + "/kiosk.zip/packs/tidepool.skin/textures/100.raw"});
    std::filesystem::remove(card);
    std::filesystem::remove(folder + "/card.tar");
  }
};

}  // namespace

int main(int argc, char** argv) {
  if (argc > 2 && std::string_view(argv[1]) == kMeasureWord) return measure_one(argv + 2);
  if (argc < 2) {
    fmt::print(
        "usage: operculum_bench PROGRAM [ROW [FOLDER]]\nrows: show identify list layout sandbox zip stored "
        "tar "
        "ext xfs btrfs luks squashfs folders one nested mszip lzx lanes msi xz xz-one bzip2 deb compare "
        "find-like "
        "find-text catalogue catalogue-again search jffs2 uefi study rebuild rebuild-whole rebuild-described "
        "pack "
        "pack-squashfs "
        "convert "
        "kinds patterns one-name look-ups tiny verify-many names deep kept start\n");
    return 2;
  }
  const std::string row = argc > 2 ? argv[2] : "";
  Bench bench{{argv[1], argc > 3 ? argv[3] : "/dev/shm/operculum-bench"}};
  if (!std::filesystem::create_directories(bench.folder)) {
    fmt::print("{} is there already; it would be removed at the end\n", bench.folder);
    return 2;
  }
  fmt::print("{:<58} {:>9} {:>9}  {:>6}  {:14} {:>10}\n", "work (median of 5)", "baseline", "operculum",
             "ratio", "", "peak");
  const std::pair<std::string_view, void (Bench::*)()> all[] = {
      {"show", &Bench::show_nested}, {"identify", &Bench::identify_sparse},
      {"list", &Bench::list_many},   {"layout", &Bench::described_table},
      {"sandbox", &Bench::sandbox},  {"zip", &Bench::zip_of_files},
      {"stored", &Bench::stored},    {"tar", &Bench::tar_zst}};
  for (auto [name, run_it] : all) {
    if (row.empty() || row == name) (bench.*run_it)();
  }
  measure_images(bench, row);
  measure_packages(bench, row);
  measure_solid(bench, row);
  measure_collections(bench, row);
  measure_firmware(bench, row);
  measure_study(bench, row);
  measure_rebuild(bench, row);
  measure_growth(bench, row);
  measure_small_things(bench, row);
  std::filesystem::remove_all(bench.folder);
  return bench.failed ? 1 : 0;
}
