// Linux MD arrays (software RAID). One member opens the array: the others are found beside it by the array's
// id.
#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "container/open.h"
#include "container/probe_reader.h"
#include "format/filesystem/file_tree.h"
#include "format/image/disk_image.h"
#include "format/volume/formats.h"
#include "format/volume/md_superblock.h"
#include "io/spool.h"

namespace operculum {
namespace {

using namespace md;

struct Member {
  SourcePtr file;
  Superblock super;
};

std::optional<Superblock> superblock_of(const Source& file) {
  return find_superblock(file.size(),
                         [&](std::uint64_t at, std::size_t count) { return read_up_to(file, at, count); });
}

/// All members of the array that can be found, the newest state of each first.
std::vector<Member> find_members(const Input& input, const Member& own) {
  std::vector<Member> out = {own};
  input.sibling.each([&](const Candidate&, const SourcePtr& file) {
    auto super = superblock_of(*file);
    if (super && super->array == own.super.array) out.push_back({file, std::move(*super)});
    return true;
  });
  std::stable_sort(out.begin(), out.end(),
                   [](const Member& a, const Member& b) { return a.super.events > b.super.events; });
  return out;
}

class ArrayOpener {
 public:
  ArrayOpener(const Input& input, const Member& own)
      : all_(find_members(input, own)), newest_(all_.front().super) {
    if (newest_.members == 0 || newest_.members > 1920)
      throw Malformed(fmt::format("MD superblock: an array of {} members is not possible", newest_.members));
    if (newest_.reshaping) throw Unsupported("MD arrays that are being reshaped");
    for (Member& one : all_)
      if (!one.super.sum_fits)
        tell(Finding::Level::warning, "a member's superblock does not fit its checksum");
    take_members();
    report(own);
  }

  DiskImage open() {
    RaidShape shape = newest_.shape;
    if (shape.level <= 0) shape.member_size = least_size();
    image_.bytes = make_raid_array(shape, slices_);
    if (shape.chunk != 0 && shape.level != 1 && shape.level != RaidShape::kLinear)
      image_.facts.emplace_back("chunk", fmt::format("{} bytes, layout {:#x}", shape.chunk, shape.layout));
    return std::move(image_);
  }

 private:
  void tell(Finding::Level level, std::string text) { image_.findings.push_back({level, std::move(text)}); }

  /// A member that missed writes does not count when there is enough without it.
  void take_members() {
    slices_.resize(newest_.members);
    auto take = [&](const Member& one) {
      std::size_t role = *one.super.role;
      if (role < slices_.size() && !slices_[role]) {
        slices_[role] = make_slice(one.file, one.super.data_at, one.super.data_size);
        if (slices_[role]->size() < one.super.data_size)
          tell(Finding::Level::fault, fmt::format("member {} is cut short", role));
        return true;
      }
      return false;
    };
    for (const Member& one : all_)
      if (one.super.role && one.super.synced == UINT64_MAX && is_current(one)) take(one);
    unsigned spare = redundancy(newest_.shape, newest_.members);
    for (const Member& one : all_) {
      if (missing().size() <= spare || !one.super.role) continue;
      if (take(one))
        tell(Finding::Level::warning,
             fmt::format(
                 "member {} is older than the others ({} updates against {}): what is read of it may be "
                 "out of date",
                 *one.super.role, one.super.events, newest_.events));
    }
  }

  /// A difference of one is an update that did not reach all.
  bool is_current(const Member& one) const { return one.super.events + 1 >= newest_.events; }

  std::vector<std::size_t> missing() const {
    std::vector<std::size_t> out;
    for (std::size_t i = 0; i < slices_.size(); ++i)
      if (!slices_[i]) out.push_back(i);
    return out;
  }

  std::uint64_t least_size() const {
    std::uint64_t least = UINT64_MAX;
    for (const SourcePtr& one : slices_)
      if (one) least = std::min(least, one->size());
    return least;
  }

  void report(const Member& own) {
    image_.facts = {{"array", level_name(newest_.shape.level)},
                    {"uuid", uuid_text(newest_.array)},
                    {"metadata", newest_.version}};
    if (!newest_.name.empty()) image_.facts.emplace_back("label", escape(newest_.name));
    std::vector<std::size_t> lost = missing();
    image_.facts.emplace_back("members",
                              fmt::format("{} of {}", newest_.members - lost.size(), newest_.members));
    image_.facts.emplace_back("member", own.super.journal ? "journal"
                                        : own.super.role  ? fmt::format("number {}", *own.super.role)
                                                          : "spare");
    if (newest_.updated.known()) image_.facts.emplace_back("updated", to_text(newest_.updated));
    if (!newest_.clean)
      tell(Finding::Level::warning, "the array was not stopped cleanly: its members may differ");
    if (lost.empty()) return;
    bool enough = lost.size() <= redundancy(newest_.shape, newest_.members);
    bool one = lost.size() == 1;
    std::string_view them = one ? "it" : "them", they = one ? "it" : "they";
    std::string rest = enough ? fmt::format("; what {} held is taken from the rest", they)
                              : fmt::format("; put {} there", them);
    tell(enough ? Finding::Level::warning : Finding::Level::fault,
         fmt::format("the array is degraded: member{} {} of {} {} not beside this one (array {}){}",
                     one ? "" : "s", fmt::join(lost, ", "), newest_.members, one ? "is" : "are",
                     uuid_text(newest_.array), rest));
  }

  std::vector<Member> all_;
  Superblock newest_;
  std::vector<SourcePtr> slices_;
  DiskImage image_;
};

Match recognise_md(Probe& probe) {
  auto found = find_superblock(probe.size().value_or(0), reader_of(probe));
  return found && found->sum_fits ? Match::front : Match::none;
}

ContainerPtr open_md(const Input& input, OpenContext& context) {
  SourcePtr file = random_access(*input.content, context.spool);
  auto super = superblock_of(*file);
  if (!super) throw Malformed("MD: there is no superblock");
  return make_disk_image(input, ArrayOpener(input, {file, *super}).open());
}

}  // namespace

Format md_format() {
  return {
      .id = "md",
      .name = "Linux MD array member",
      .family = "volume",
      .specification = "Linux kernel, include/uapi/linux/raid/md_p.h and drivers/md",
      .reads =
          "metadata 0.90 (both byte orders), 1.0, 1.1 and 1.2; linear and RAID 0, 1, 4, 5, 6 and 10 in all "
          "layouts; members beside it found by the array's id; missing ones computed from parity or copies",
      .lacks =
          "arrays that are being reshaped, members in several containers other than disks, external metadata",
      .single_stream = true,
      .recognise = recognise_md,
      .open = open_md,
      .records = {{"superblock", shown_superblock}}};
}

}  // namespace operculum
