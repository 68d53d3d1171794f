#include "task/volume_facts.h"

#include <blkid/blkid.h>
#include <fcntl.h>
#include <sys/mman.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <memory>

#include "io/descriptor.h"

namespace operculum {
namespace {

constexpr std::uint64_t kFrontSize = 4 << 20,
                        kBackSize = 4 << 20;  // bytes that marks and superblocks lie within

struct FreeProbe {
  void operator()(blkid_probe probe) const { blkid_free_probe(probe); }
};
using ProbePtr = std::unique_ptr<std::remove_pointer_t<blkid_probe>, FreeProbe>;

bool copy_range(const Source& source, std::uint64_t at, std::uint64_t count, int file) {
  Bytes bytes = read_up_to(source, at, count);
  return pwrite(file, bytes.data(), bytes.size(), static_cast<off_t>(at)) ==
         static_cast<ssize_t>(bytes.size());
}

/// The front and the back of the source in an unnamed file of its size, with a hole between: the library
/// takes files only. Nothing when it cannot be made.
Descriptor sketch_of(const Source& source) {
  Descriptor file(memfd_create("operculum", MFD_CLOEXEC));
  std::uint64_t size = source.size(), back = size - std::min(size, kBackSize);
  bool made = file && size <= static_cast<std::uint64_t>(INT64_MAX) &&
              ftruncate(file.number(), static_cast<off_t>(size)) == 0 &&
              copy_range(source, 0, kFrontSize, file.number()) &&
              (back < kFrontSize || copy_range(source, back, kBackSize, file.number()));
  return made ? std::move(file) : Descriptor();
}

/// Whether the two stretches at either end where a pool of ZFS has its labels are holes; the library would
/// read a megabyte to find that out.
bool has_no_pool_labels(const Source& source) {
  constexpr std::uint64_t kLabels = 512 << 10;
  std::uint64_t size = source.size();
  return size > 2 * kLabels && source.hole_at(0) >= kLabels && source.hole_at(size - kLabels) >= kLabels;
}

struct ValueName {
  std::string_view blkid, ours;
};
constexpr ValueName kNames[] = {{"TYPE", "type"},           {"VERSION", "version"},
                                {"LABEL", "label"},         {"UUID", "uuid"},
                                {"USAGE", "use"},           {"PTTYPE", "partition table"},
                                {"PTUUID", "uuid"},         {"SEC_TYPE", "also written"},
                                {"UUID_SUB", "member uuid"}};

}  // namespace

Facts volume_facts(const Source& source, const std::string& path) {
  Facts facts;
  Descriptor file =
      path.empty() ? sketch_of(source) : Descriptor(open(path.c_str(), O_RDONLY | O_CLOEXEC | O_NONBLOCK));
  ProbePtr probe(file ? blkid_new_probe() : nullptr);
  if (!probe || blkid_probe_set_device(probe.get(), file.number(), 0, 0) != 0) return facts;
  blkid_probe_enable_superblocks(probe.get(), 1);
  blkid_probe_set_superblocks_flags(probe.get(), BLKID_SUBLKS_TYPE | BLKID_SUBLKS_LABEL | BLKID_SUBLKS_UUID |
                                                     BLKID_SUBLKS_VERSION | BLKID_SUBLKS_USAGE |
                                                     BLKID_SUBLKS_SECTYPE);
  std::string pool = "zfs_member";
  std::array<char*, 2> left_out = {pool.data(), nullptr};
  if (has_no_pool_labels(source))
    blkid_probe_filter_superblocks_type(probe.get(), BLKID_FLTR_NOTIN, left_out.data());
  blkid_probe_enable_partitions(probe.get(), 1);
  while (blkid_do_probe(probe.get()) == 0) {
    int count = blkid_probe_numof_values(probe.get());
    for (int i = 0; i < count; ++i) {
      const char *name = nullptr, *value = nullptr;
      if (blkid_probe_get_value(probe.get(), i, &name, &value, nullptr) != 0) continue;
      auto known = std::find_if(std::begin(kNames), std::end(kNames),
                                [&](const ValueName& one) { return one.blkid == name; });
      std::pair<std::string, std::string> fact{known == std::end(kNames) ? "" : known->ours, value};
      if (known != std::end(kNames) && std::find(facts.begin(), facts.end(), fact) == facts.end())
        facts.push_back(std::move(fact));
    }
  }
  return facts;
}

}  // namespace operculum
