// LVM2 volume groups. One physical volume opens the group: the others are found beside it by their ids.
#include <fmt/format.h>

#include <algorithm>
#include <optional>

#include "base/text.h"
#include "container/container.h"
#include "container/probe_reader.h"
#include "format/filesystem/file_tree.h"
#include "format/volume/formats.h"
#include "format/volume/lvm_group.h"
#include "format/volume/lvm_label.h"
#include "io/spool.h"

namespace operculum {
namespace {

using namespace lvm;

struct PhysicalVolume {
  SourcePtr file;
  Label label;
};

std::optional<Label> label_of(const Source& file) {
  return find_label([&](std::uint64_t at, std::size_t count) { return read_up_to(file, at, count); });
}

/// A group's metadata, as one physical volume has it.
struct Metadata {
  std::string group;
  Section text;
  std::uint64_t sequence = 0;
};

std::optional<Metadata> metadata_of(const PhysicalVolume& volume, std::vector<std::string>& wrong) {
  std::optional<Metadata> newest;
  for (auto [at, size] : volume.label.metadata) {
    try {
      auto text = read_metadata(*volume.file, at, size);
      if (!text) continue;
      Section all = Section::parse(*text);
      // besides the group there are only values: who wrote it, and when
      if (all.sections().size() != 1) throw Malformed("LVM2 metadata: expected one volume group");
      const auto& [name, group] = *all.sections().begin();
      std::uint64_t sequence = group.number("seqno");
      if (!newest || sequence > newest->sequence) newest = {name, group, sequence};
    } catch (const Malformed& error) {
      wrong.push_back(error.what());
    }
  }
  return newest;
}

/// The physical volumes beside this one.
std::vector<PhysicalVolume> volumes_beside(const Input& input) {
  std::vector<PhysicalVolume> out;
  input.sibling.each([&](const Candidate&, const SourcePtr& file) {
    if (auto label = label_of(*file)) out.push_back({file, std::move(*label)});
    return true;
  });
  return out;
}

class GroupContainer final : public Container {
 public:
  GroupContainer(const Input& input, PhysicalVolume own) : id_(own.label.id) {
    std::vector<PhysicalVolume> others = volumes_beside(input);
    std::vector<std::string> wrong;
    std::optional<Metadata> newest = metadata_of(own, wrong);
    for (const PhysicalVolume& other : others) {
      std::vector<std::string> not_ours;
      auto more = metadata_of(other, not_ours);
      if (!more ||
          (newest ? more->text.text("id", "") != newest->text.text("id", "") : !lists(more->text, id_)))
        continue;
      if (!newest || more->sequence > newest->sequence) newest = std::move(more);
    }
    for (const std::string& text : wrong) add_finding(Finding::Level::fault, text);
    if (!newest)
      throw Malformed(wrong.empty() ? fmt::format("LVM2: physical volume {} belongs to no group", escape(id_))
                                    : wrong.front());
    std::map<std::string, SourcePtr> physical = {{id_, own.file}};
    for (const PhysicalVolume& other : others) physical.emplace(other.label.id, other.file);
    group_.emplace(newest->group, std::move(newest->text), std::move(physical));
    list();
  }

  std::span<const Entry> entries() override { return entries_; }

  ContentPtr content(std::size_t index) override { return make_content(group_->open(entries_[index].path)); }

  Facts facts() override {
    Facts out = {{"group", escape(group_->name())},
                 {"uuid", escape(group_->text().text("id", ""))},
                 {"extent", fmt::format("{} bytes", group_->extent())},
                 {"part", fmt::format("physical volume {}", escape(id_))}};
    const Section* all = group_->text().section("physical_volumes");
    std::size_t count = all ? all->sections().size() : 0;
    out.emplace_back("parts", fmt::format("{} of {}", count - group_->missing().size(), count));
    return out;
  }

 private:
  static bool lists(const Section& group, const std::string& id) {
    const Section* all = group.section("physical_volumes");
    if (!all) return false;
    return std::any_of(all->sections().begin(), all->sections().end(),
                       [&](const auto& one) { return one.second.text("id", "") == id; });
  }

  void list() {
    for (const Group::Volume& volume : group_->volumes()) {
      Entry entry;
      entry.path = volume.name;
      entry.size = entry.stored_size = volume.size;
      entry.flags = Entry::sparse;
      entry.extras().type_tag = volume.type;
      if (volume.made != 0) entry.modified = from_unix(static_cast<std::int64_t>(volume.made));
      if (!volume.complete) {
        entry.flags |= Entry::damaged;
        add_finding(
            Finding::Level::fault,
            fmt::format("volume \"{}\" cannot be read wholly: a part of it is missing", escape(volume.name)));
      }
      entries_.push_back(std::move(entry));
    }
    for (const std::string& id : group_->missing())
      add_finding(Finding::Level::warning,
                  fmt::format("physical volume {} of group \"{}\" is not beside this one; put it there",
                              escape(id), escape(group_->name())));
  }

  std::string id_;
  std::optional<Group> group_;
  std::vector<Entry> entries_;
};

Match recognise_lvm(Probe& probe) {
  return find_label(reader_of(probe)) ? Match::front : Match::none;
}

ContainerPtr open_lvm(const Input& input, OpenContext& context) {
  SourcePtr file = random_access(*input.content, context.spool);
  auto label = label_of(*file);
  if (!label) throw Malformed("LVM2: there is no label");
  return std::make_shared<GroupContainer>(input, PhysicalVolume{file, std::move(*label)});
}

}  // namespace

Format lvm_format() {
  return {.id = "lvm2",
          .name = "LVM2 physical volume",
          .family = "volume",
          .specification = "LVM2, lib/format_text/layout.h; Linux kernel, drivers/md",
          .reads =
              "linear, striped and mirrored volumes, RAID 0, 1, 4, 5, 6 and 10, snapshots, thin volumes and "
              "their "
              "snapshots; physical volumes beside it found by their ids",
          .lacks = "caches (dm-cache, dm-writecache), dm-integrity, VDO, metadata of LVM1",
          .recognise = recognise_lvm,
          .open = open_lvm,
          .records = {{"label", shown_label}}};
}

}  // namespace operculum
