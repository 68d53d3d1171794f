#include "format/volume/raid_volumes.h"

#include <fmt/format.h>

#include "base/text.h"
#include "format/firmware/firmware_parts.h"

namespace operculum {
namespace {

class VolumesContainer final : public Container {
 public:
  VolumesContainer(std::vector<RaidVolume> volumes, Facts facts)
      : volumes_(std::move(volumes)), facts_(std::move(facts)) {
    for (const RaidVolume& volume : volumes_) add(volume);
  }

  std::span<const Entry> entries() override { return entries_; }
  ContentPtr content(std::size_t index) override { return make_content(volumes_[index].open()); }
  Facts facts() override { return facts_; }

 private:
  void add(const RaidVolume& volume) {
    Entry entry;
    entry.path =
        as_path_part(volume.name.empty() ? fmt::format("volume-{}", entries_.size() + 1) : volume.name);
    entry.size = entry.stored_size = volume.size;
    entry.flags = Entry::sparse;
    entry.extras().type_tag = volume.type;
    if (!volume.readable) entry.flags |= Entry::damaged;
    if (volume.missing != 0) {
      add_finding(
          volume.readable ? Finding::Level::warning : Finding::Level::fault,
          fmt::format("volume \"{}\" is degraded: {} of its {} members {} not beside this one{}",
                      escape(entry.path), volume.missing, volume.members, volume.missing == 1 ? "is" : "are",
                      volume.readable ? "; what they held is taken from the rest" : "; put them there"));
    }
    entries_.push_back(std::move(entry));
  }

  std::vector<RaidVolume> volumes_;
  Facts facts_;
  std::vector<Entry> entries_;
};

}  // namespace

ContainerPtr make_raid_volumes(std::vector<RaidVolume> volumes, Facts facts,
                               const std::vector<Finding>& findings) {
  auto container = std::make_shared<VolumesContainer>(std::move(volumes), std::move(facts));
  for (const Finding& one : findings) container->add_finding(one.level, one.text);
  return container;
}

}  // namespace operculum
