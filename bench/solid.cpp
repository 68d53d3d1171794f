#include "solid.h"

#include <fstream>

#include "support/tar_builder.h"
#include "workload.h"

namespace operculum::bench {
namespace {

using namespace test;

constexpr std::size_t kFiles = 8000, kFileSize = 32 << 10;  // 250 MiB

std::string in_quotes(const std::string& path) {
  return "'" + path + "'";
}

void must(const std::string& command) {
  if (std::system(command.c_str()) != 0) throw std::runtime_error(command + " failed");
}

/// A tar archive of text, and beside it the same packed by `packer`.
std::string packed_tar(const Measure& m, const std::string& ending, const std::string& packer) {
  std::string path = m.folder + "/solid.tar";
  Measure::forked([&] {
    TarBuilder tar;
    for (std::size_t i = 0; i < kFiles; ++i) {
      if (i % 500 == 0) tar.folder(fmt::format("hall-{}", i / 500));
      tar.add({.name = fmt::format("hall-{}/exhibit-{}.txt", i / 500, i),
               .data = text_like(kFileSize, static_cast<std::uint32_t>(i))});
    }
    Bytes bytes = tar.build();
    std::ofstream(path, std::ios::binary)
        .write(reinterpret_cast<const char*>(bytes.data()), static_cast<std::streamsize>(bytes.size()));
  });
  must(fmt::format("{} < {} > {}", packer, in_quotes(path), in_quotes(path + ending)));
  std::filesystem::remove(path);
  return path + ending;
}

void unpack(Measure& m, const std::string& what, double goal, const std::string& path,
            const std::vector<std::string>& baseline) {
  m.compare(what, goal, [&] { return run(baseline).seconds; },
            {m.program, "unpack", "--quiet", path, "--into", m.out() + "/ours"});
  std::filesystem::remove(path);
}

void by_tar(Measure& m, const std::string& what, double goal, const std::string& path) {
  unpack(m, what, goal, path, {"tar", "xf", path, "-C", m.out()});
}

void xz(Measure& m) {
  by_tar(m, "unpack a tar.xz of 8,000 files, several blocks (tar xf)", 0.6,
         packed_tar(m, ".xz", "xz -T2 -3 --block-size=8MiB"));
}

void xz_one(Measure& m) {
  by_tar(m, "unpack a tar.xz of 8,000 files, one block (tar xf)", 1.02, packed_tar(m, ".xz", "xz -T1 -3"));
}

void bzip2(Measure& m) {
  by_tar(m, "unpack a tar.bz2 of 8,000 files (tar xf)", 0.55, packed_tar(m, ".bz2", "bzip2 -9"));
}

void deb(Measure& m) {
  std::string tree = m.folder + "/tree", path = m.folder + "/solid.deb";
  std::string tar = packed_tar(m, ".gz", "gzip -1");
  must(fmt::format("mkdir -p {0}/DEBIAN {0}/usr && tar xf {1} -C {0}/usr", in_quotes(tree), in_quotes(tar)));
  std::ofstream(tree + "/DEBIAN/control")
      << "Package: tide-log\nVersion: 1\nArchitecture: all\nMaintainer: Saltmarsh Point <x@example.org>\n"
         "Description: readings\n";
  must(fmt::format("dpkg-deb --root-owner-group -Zxz -z3 -b {} {} > /dev/null", in_quotes(tree),
                   in_quotes(path)));
  std::filesystem::remove_all(tree);
  std::filesystem::remove(tar);
  unpack(m, "unpack a Debian package of 8,000 files (dpkg-deb -x)", 1.02, path,
         {"dpkg-deb", "-x", path, m.out() + "/theirs"});
}

}  // namespace

void measure_solid(Measure& measure, std::string_view only) {
  const Measure::Row all[] = {{"xz", xz}, {"xz-one", xz_one}, {"bzip2", bzip2}, {"deb", deb}};
  measure.run_rows(all, only);
}

}  // namespace operculum::bench
