// Groups of dynamic disks. One disk opens the group: the others are found beside it by their ids.
#include "format/volume/ldm.h"

#include <fmt/format.h>

#include <algorithm>
#include <tuple>

#include "base/text.h"
#include "container/container.h"
#include "container/probe_reader.h"
#include "format/filesystem/file_tree.h"
#include "format/volume/formats.h"
#include "format/volume/raid_array.h"
#include "io/missing_source.h"
#include "io/spool.h"

namespace operculum {
namespace {

using namespace ldm;

struct Member {
  SourcePtr file;
  Disk disk;
};

std::optional<Disk> disk_of(const Source& file) {
  return find_disk([&](std::uint64_t at, std::size_t count) { return read_up_to(file, at, count); });
}

class DynamicDisks final : public Container {
 public:
  DynamicDisks(const Input& input, Member own) : own_(own.disk) {
    std::vector<Member> members = {own};
    input.sibling.each([&](const Candidate&, const SourcePtr& file) {
      auto disk = disk_of(*file);
      if (disk && disk->group_id == own.disk.group_id && disk->id != own.disk.id)
        members.push_back({file, std::move(*disk)});
      return true;
    });
    choose_database(members);
    for (const auto& [id, disk] : database_.disks) {
      const auto& [name, guid] = disk;
      auto member = std::find_if(members.begin(), members.end(),
                                 [guid = guid](const Member& one) { return one.disk.id == guid; });
      if (member != members.end())
        data_[id] = make_slice(member->file, member->disk.data_at, member->disk.data_size);
      else
        add_finding(Finding::Level::warning,
                    fmt::format("disk \"{}\" ({}) of group \"{}\" is not beside this one; put it there",
                                escape(name), escape(guid), escape(database_.group)));
    }
    list();
  }

  std::span<const Entry> entries() override { return entries_; }

  ContentPtr content(std::size_t index) override { return make_content(volume(ids_[index])); }

  Facts facts() override {
    return {{"group", escape(database_.group)},
            {"uuid", escape(database_.group_id)},
            {"part", fmt::format("disk {}", escape(own_.id))},
            {"parts", fmt::format("{} of {}", data_.size(), database_.disks.size())}};
  }

 private:
  /// The newest of all disks'.
  void choose_database(const std::vector<Member>& members) {
    std::optional<Database> newest;
    std::string wrong;
    for (const Member& one : members) {
      try {
        Database own = read_database(*one.file, one.disk);
        if (!newest || own.sequence > newest->sequence) newest = std::move(own);
      } catch (const Malformed& error) {
        if (wrong.empty()) wrong = error.what();
      }
    }
    if (!newest) throw Malformed(wrong);
    if (!wrong.empty()) add_finding(Finding::Level::warning, wrong + "; another disk's database was used");
    database_ = std::move(*newest);
    for (const std::string& text : database_.warnings) add_finding(Finding::Level::fault, text);
    if (!database_.clean)
      add_finding(Finding::Level::warning, "the database was being changed when the disks were last in use");
  }

  std::vector<std::uint64_t> components_of(std::uint64_t volume) const {
    std::vector<std::uint64_t> out;
    for (const auto& [id, one] : database_.components)
      if (one.volume == volume) out.push_back(id);
    return out;
  }

  /// The partitions of a component, in the order of its columns and of their places in them.
  std::vector<Partition> partitions_of(std::uint64_t component) const {
    std::vector<Partition> out;
    for (const Partition& one : database_.partitions)
      if (one.component == component) out.push_back(one);
    std::sort(out.begin(), out.end(), [](const Partition& a, const Partition& b) {
      return std::tie(a.column, a.within) < std::tie(b.column, b.within);
    });
    return out;
  }

  /// Null where its disk is missing.
  SourcePtr bytes_of(const Partition& partition) const {
    auto data = data_.find(partition.disk);
    return data == data_.end() ? nullptr : make_slice(data->second, partition.at, partition.size);
  }

  bool is_complete(std::uint64_t component) const {
    std::vector<Partition> parts = partitions_of(component);
    return !parts.empty() && std::all_of(parts.begin(), parts.end(), [this](const Partition& one) {
      return data_.find(one.disk) != data_.end();
    });
  }

  /// Partitions behind each other; null where one is missing and `whole` says that then nothing counts.
  SourcePtr joined(std::span<const Partition> parts, bool whole) const {
    std::vector<SourcePtr> out;
    for (const Partition& one : parts) {
      SourcePtr bytes = bytes_of(one);
      if (!bytes && whole) return nullptr;
      out.push_back(bytes ? bytes
                          : make_missing(one.size, fmt::format("the disk that holds \"{}\" is missing",
                                                               escape(one.name))));
    }
    return make_joined(std::move(out));
  }

  SourcePtr component(std::uint64_t id) const {
    const Component& one = database_.components.at(id);
    std::vector<Partition> parts = partitions_of(id);
    if (parts.empty()) throw Malformed(fmt::format("component \"{}\" has no partitions", escape(one.name)));
    if (one.kind == Component::Kind::joined) return joined(parts, false);
    constexpr std::uint64_t kMostColumns = 1024;
    std::uint64_t columns = parts.back().column + 1;
    if (columns > kMostColumns || columns > parts.size() || one.chunk == 0)
      throw Malformed(fmt::format("component \"{}\": {} columns in chunks of {} bytes are not possible",
                                  escape(one.name), columns, one.chunk));
    std::vector<SourcePtr> members(columns);
    std::uint64_t least = UINT64_MAX;
    for (std::uint64_t column = 0; column < columns; ++column) {
      auto [begin, end] =
          std::equal_range(parts.begin(), parts.end(), Partition{.column = column},
                           [](const Partition& a, const Partition& b) { return a.column < b.column; });
      members[column] = joined({begin, end}, true);
      std::uint64_t size = 0;
      for (auto part = begin; part != end; ++part) size += part->size;
      least = std::min(least, size);
    }
    bool parity = one.kind == Component::Kind::parity;
    constexpr unsigned kLeftSymmetric = 2;
    return make_raid_array({.level = parity ? 5 : 0,
                            .layout = parity ? kLeftSymmetric : 0,
                            .chunk = one.chunk,
                            .member_size = least / one.chunk * one.chunk},
                           std::move(members));
  }

  /// A mirror's parts are alike: one that is there wholly serves.
  SourcePtr volume(std::uint64_t id) const {
    std::vector<std::uint64_t> components = components_of(id);
    if (components.empty())
      throw Malformed(fmt::format("volume \"{}\" has no components", escape(database_.volumes.at(id).name)));
    auto whole = std::find_if(components.begin(), components.end(),
                              [this](std::uint64_t one) { return is_complete(one); });
    SourcePtr bytes = component(whole == components.end() ? components.front() : *whole);
    return make_slice(bytes, 0, std::min(bytes->size(), database_.volumes.at(id).size));
  }

  std::string kind_of(std::uint64_t id) const {
    std::vector<std::uint64_t> components = components_of(id);
    if (components.empty()) return "";
    const Component& first = database_.components.at(components.front());
    std::string_view kind = first.kind == Component::Kind::parity          ? "RAID 5"
                            : first.kind == Component::Kind::striped       ? "striped"
                            : partitions_of(components.front()).size() > 1 ? "spanned"
                            : components.size() > 1                        ? ""
                                                                           : "simple";
    if (components.size() == 1) return std::string(kind);
    return kind.empty() ? "mirrored" : fmt::format("mirrored, {}", kind);
  }

  /// Whether all can be read: a part may be missing where another one or parity has its bytes.
  bool is_readable(std::uint64_t id) const {
    for (std::uint64_t one : components_of(id)) {
      if (is_complete(one)) return true;
      std::vector<std::uint64_t> lost;
      for (const Partition& part : partitions_of(one))
        if (!bytes_of(part)) lost.push_back(part.column);
      if (database_.components.at(one).kind == Component::Kind::parity &&
          std::all_of(lost.begin(), lost.end(), [&](std::uint64_t column) { return column == lost.front(); }))
        return true;
    }
    return false;
  }

  void list() {
    for (const auto& [id, one] : database_.volumes) {
      Entry entry;
      entry.path = one.name;
      entry.size = entry.stored_size = one.size;
      entry.flags = Entry::sparse;
      entry.extras().type_tag = kind_of(id);
      if (!one.hint.empty()) entry.extras().comment = one.hint;
      if (!is_readable(id)) {
        entry.flags |= Entry::damaged;
        add_finding(
            Finding::Level::fault,
            fmt::format("volume \"{}\" cannot be read wholly: a part of it is missing", escape(one.name)));
      }
      ids_.push_back(id);
      entries_.push_back(std::move(entry));
    }
  }

  Disk own_;
  Database database_;
  std::map<std::uint64_t, SourcePtr> data_;  // by the disk's id in the database
  std::vector<std::uint64_t> ids_;
  std::vector<Entry> entries_;
};

Match recognise_ldm(Probe& probe) {
  return find_disk(reader_of(probe)) ? Match::front : Match::none;
}

ContainerPtr open_ldm(const Input& input, OpenContext& context) {
  SourcePtr file = random_access(*input.content, context.spool);
  auto disk = disk_of(*file);
  if (!disk) throw Malformed("LDM: there is no private head");
  return std::make_shared<DynamicDisks>(input, Member{file, std::move(*disk)});
}

}  // namespace

Format ldm_format() {
  return {
      .id = "ldm",
      .name = "dynamic disk",
      .family = "volume",
      .specification = "Linux kernel, Documentation/admin-guide/ldm.rst and block/partitions/ldm.h",
      .reads =
          "simple, spanned, striped, mirrored and RAID 5 volumes, on disks with MBR and GPT; disks beside it "
          "found by their ids; missing ones computed from parity or copies",
      .lacks = "partitions of an MBR or GPT that do not belong to the group",
      .recognise = recognise_ldm,
      .open = open_ldm,
      .records = {known_head()}};
}

}  // namespace operculum
