#include "images.h"

#include <fcntl.h>
#include <openssl/evp.h>

#include <fstream>

#include "container/locator.h"
#include "io/file_source.h"
#include "support/disk_writer.h"
#include "support/ext_writer.h"
#include "support/squashfs_writer.h"
#include "support/zip_builder.h"
#include "workload.h"

namespace operculum::bench {
namespace {

using namespace test;

/// Bytes that pack to about a half.
Bytes half_noise(std::size_t size, std::uint32_t seed) {
  Bytes out = noise(size, seed);
  for (std::size_t i = 0; i < size; i += 64)
    std::fill_n(out.begin() + static_cast<std::ptrdiff_t>(i), std::min<std::size_t>(32, size - i),
                static_cast<Byte>(seed));
  return out;
}

void forget_caches() {
  std::ofstream("/proc/sys/vm/drop_caches") << 3;
}

class Mounted {
 public:
  Mounted(const std::string& folder, const std::string& image, const char* type)
      : point_(folder + "/mounted") {
    std::filesystem::create_directories(point_);
    worked_ = run({"mount", "-t", type, "-o", "loop,ro", image, point_}).exit_code == 0;
  }
  ~Mounted() {
    if (worked_) run({"umount", point_});
  }
  Mounted(const Mounted&) = delete;
  Mounted& operator=(const Mounted&) = delete;
  bool worked() const { return worked_; }
  const std::string& path() const { return point_; }

 private:
  std::string point_;
  bool worked_ = false;
};

bool may_mount(std::string_view what) {
  if (geteuid() == 0) return true;
  fmt::print("{:<58} skipped: only root may mount\n", what);
  return false;
}

void unpack_ext(Measure& m) {
  constexpr int kFiles = 20'000;
  if (!may_mount("unpack a 1 GiB ext4 image")) return;
  std::string tree = m.folder + "/tree", image = m.folder + "/ext.img";
  Measure::forked([&] {
    Bytes data = noise(52'000);
    for (int i = 0; i < kFiles; ++i) {
      std::string folder = fmt::format("{}/{}", tree, i / 200);
      if (i % 200 == 0) std::filesystem::create_directories(folder);
      write_file(fmt::format("{}/{}.bin", folder, i), data);
    }
  });
  run({"mkfs.ext4", "-q", "-F", "-b", "4096", "-d", tree, image, "1300M"});
  std::filesystem::remove_all(tree);
  {
    Mounted mounted(m.folder, image, "ext4");
    m.compare("unpack a 1 GiB ext4 image of 20,000 files (cp -r)", 1.2,
              [&] {
                return run({"cp", "-r", mounted.path(), m.out() + "/copy"}).seconds;
              },
              {m.program, "unpack", "-q", image, "--into", m.out() + "/x"});
  }
  std::filesystem::remove(image);
}

/// A file system that the kernel filled from a folder of 20,000 files, 1 GiB in all; both sides start cold.
void unpack_written(Measure& m, const char* type, const std::string& options, double goal) {
  constexpr int kFiles = 20'000;
  std::string what = fmt::format("unpack a 1 GiB {} image of 20,000 files (cp -r, cold)", type);
  if (!may_mount(what)) return;
  std::string image = m.folder + "/written.img", point = m.folder + "/filled";
  std::filesystem::create_directories(point);
  write_file(image, {});
  std::filesystem::resize_file(image, std::uint64_t{2} << 30);
  run({fmt::format("mkfs.{}", type), "-q", image});
  if (run({"mount", "-t", type, "-o", "loop" + options, image, point}).exit_code != 0) {
    fmt::print("{:<58} skipped: this kernel does not mount it\n", what);
    return;
  }
  Measure::forked([&] {
    for (int i = 0; i < kFiles; ++i) {
      std::string folder = fmt::format("{}/{}", point, i / 200);
      if (i % 200 == 0) std::filesystem::create_directories(folder);
      write_file(fmt::format("{}/{}.bin", folder, i), half_noise(52'000, static_cast<std::uint32_t>(i)));
    }
  });
  run({"umount", point});
  auto baseline = [&] {
    Mounted mounted(m.folder, image, type);
    forget_caches();
    return run({"cp", "-r", mounted.path(), m.out() + "/copy"}).seconds;
  };
  m.compare(what, goal, baseline, {m.program, "unpack", "-q", image, "--into", m.out() + "/x"});
  std::filesystem::remove(image);
}

void unpack_xfs(Measure& m) {
  unpack_written(m, "xfs", "", 0.6);
}
void unpack_btrfs(Measure& m) {
  unpack_written(m, "btrfs", ",compress-force=zstd", 0.6);
}

/// The baseline decrypts as many sectors of memory, and reads the key in no time.
void decrypt_luks(Measure& m) {
  constexpr std::size_t kSize = std::size_t{1} << 30, kSector = 512;
  std::string image = m.folder + "/luks.img", key = m.folder + "/key";
  write_file(key, to_bytes("ebb and flow"));
  write_file(image, {});
  std::filesystem::resize_file(image, kSize + (std::uint64_t{16} << 20));
  if (run({"cryptsetup", "luksFormat", "-q", "--type", "luks2", "--pbkdf", "pbkdf2",
           "--pbkdf-force-iterations", "1000", image, key})
          .exit_code != 0) {
    fmt::print("{:<58} skipped: cryptsetup is not there\n", "decrypt a 1 GiB LUKS2 volume");
    return;
  }
  auto baseline = [&] {
    Bytes secret = noise(64), buffer(1 << 20);
    EVP_CIPHER_CTX* context = EVP_CIPHER_CTX_new();
    EVP_DecryptInit_ex(context, EVP_aes_256_xts(), nullptr, secret.data(), nullptr);
    for (std::uint64_t sector = 0; sector < kSize / kSector;) {
      for (std::size_t at = 0; at < buffer.size(); at += kSector, ++sector) {
        Byte vector[16] = {};
        for (std::size_t i = 0; i < 8; ++i) vector[i] = static_cast<Byte>(sector >> (8 * i));
        int length = 0;
        EVP_DecryptInit_ex(context, nullptr, nullptr, nullptr, vector);
        EVP_DecryptUpdate(context, buffer.data() + at, &length, buffer.data() + at, kSector);
      }
    }
    EVP_CIPHER_CTX_free(context);
  };
  m.compare("decrypt a 1 GiB LUKS2 volume (OpenSSL's AES-XTS)", 1.12,
            [&] { return Measure::forked(baseline); },
            {m.program, "show", image + "/luks.raw", "--password-file", key});
  std::filesystem::remove(image);
}

void unpack_squashfs(Measure& m) {
  if (!may_mount("unpack a 1 GiB zstd SquashFS")) return;
  std::string image = m.folder + "/squash.img";
  Measure::forked([&] {
    SampleTree tree;
    for (int i = 0; i < 2000; ++i) {
      if (i % 100 == 0) tree.push_back({.path = fmt::format("{}", i / 100), .kind = EntryKind::folder});
      tree.push_back({.path = fmt::format("{}/{}.bin", i / 100, i),
                      .data = half_noise(536'870, static_cast<std::uint32_t>(i))});
    }
    write_file(image, make_squashfs(tree, {.codec = BlockCodec::zstd}));
  });
  auto baseline = [&] {
    Mounted mounted(m.folder, image, "squashfs");
    forget_caches();
    return run({"cp", "-r", mounted.path(), m.out() + "/copy"}).seconds;
  };
  m.compare("unpack a 1 GiB zstd SquashFS (cp -r, cold)", 0.7, baseline,
            {m.program, "unpack", "-q", image, "--into", m.out() + "/x"});
  std::filesystem::remove(image);
}

void list_folders(Measure& m) {
  constexpr int kFiles = 500'000;
  if (!may_mount("list an ext4 image of 500,000 files")) return;
  std::string tree = m.folder + "/tree", image = m.folder + "/many.img";
  Measure::forked([&] {
    for (int i = 0; i < kFiles; ++i) {
      std::string folder = fmt::format("{}/{}", tree, i / 500);
      if (i % 500 == 0) std::filesystem::create_directories(folder);
      int file = open(fmt::format("{}/reading-{:06}.csv", folder, i).c_str(), O_CREAT | O_WRONLY, 0644);
      close(file);
    }
  });
  run({"mkfs.ext4", "-q", "-F", "-N", "520000", "-d", tree, image, "1G"});
  std::filesystem::remove_all(tree);
  auto baseline = [&] {
    Mounted mounted(m.folder, image, "ext4");
    forget_caches();
    return run({"find", mounted.path()}).seconds;
  };
  m.compare("list an ext4 image of 500,000 files (find, cold)", 1.0, baseline,
            {m.program, "list", "--paths", image});
  std::filesystem::remove(image);
}

void show_one(Measure& m) {
  std::string image = m.folder + "/card.img";
  {
    SampleTree tree = {{.path = "opt", .kind = EntryKind::folder}, {.path = "opt/run", .data = noise(4000)}};
    for (int i = 0; i < 3000; ++i)
      tree.push_back({.path = fmt::format("opt/other-{}", i), .data = noise(2000)});
    write_file(image, make_gpt({{make_ext(tree, 64 << 20), "kiosk"}}));
    std::filesystem::resize_file(image, std::uint64_t{4} << 30);
  }
  std::vector<double> idle, ours;
  std::uint64_t idle_read = 0, read = 0;
  for (int round = 0; round < 15; ++round) {
    Cost a = run({m.program, "--version"}), b = run({m.program, "show", image + "/1/opt/run"});
    m.failed |= b.exit_code != 0;
    idle.push_back(a.seconds);
    ours.push_back(b.seconds);
    idle_read = a.bytes_read;
    read = b.bytes_read;
  }
  double more = (Measure::median(ours) - Measure::median(idle)) * 1000;
  bool good = more <= 30 && read - idle_read < (2 << 20);
  m.failed |= !good;
  fmt::print("{:<58} {:.1f} ms over --version (goal 30), {} read (goal under 2 MiB)  {}\n",
             "show one file of a 4 GiB image", more, human_size(read - idle_read),
             good ? "reached" : "MISSED");
  std::filesystem::remove(image);
}

/// The baseline decodes the blocks that hold the pack's directory and the entry, and nothing else.
void show_nested_image(Measure& m) {
  std::string image = m.folder + "/card.qcow2";
  Measure::forked([&] {
    ZipBuilder pack;
    for (int i = 0; i < 12; ++i)
      pack.stored(fmt::format("levels/{}.raw", i), half_noise(16 << 20, static_cast<std::uint32_t>(i)));
    SampleTree tree = {{.path = "pack.zip", .data = pack.build()}};
    Bytes squash = make_squashfs(tree, {.codec = BlockCodec::zstd});
    squash.resize((squash.size() + 65535) / 65536 * 65536);
    write_file(image, make_qcow2(squash, {.codec = BlockCodec::zstd}));
  });
  std::string target = image + "/pack.zip/levels/7.raw";
  std::uint64_t begin = 0, length = 0, end = 0;
  {
    OpenContext context;
    Place place = resolve(image + "/pack.zip", context, Step::into);
    for (const Entry& entry : place.layers.back().container->entries()) {
      if (entry.path == "levels/7.raw") {
        begin = entry.stored_at;
        length = entry.stored_size;
      }
    }
    end = place.content->source()->size();
  }
  auto baseline = [&] {
    OpenContext context;
    Place place = resolve(image + "/pack.zip", context, Step::no_more);
    SourcePtr source = place.content->source();
    read_up_to(*source, end - 40'000, 40'000);
    for (std::uint64_t at = 0; at < length; at += 1 << 20) read_up_to(*source, begin + at, 1 << 20);
  };
  m.compare("one file of a pack in SquashFS in QCOW2", 2.0, [&] { return Measure::forked(baseline); },
            {m.program, "show", target});
  std::filesystem::remove(image);
}

}  // namespace

void measure_images(Measure& measure, std::string_view only) {
  const Measure::Row all[] = {{"one", show_one},
                              {"nested", show_nested_image},
                              {"ext", unpack_ext},
                              {"xfs", unpack_xfs},
                              {"btrfs", unpack_btrfs},
                              {"luks", decrypt_luks},
                              {"squashfs", unpack_squashfs},
                              {"folders", list_folders}};
  measure.run_rows(all, only);
}

}  // namespace operculum::bench
