#include "format/image/disk_image.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/brief_text.h"
#include "base/text.h"
#include "base/units.h"
#include "codec/codec.h"
#include "container/open.h"
#include "container/rewrite.h"
#include "io/missing_source.h"

namespace operculum {
namespace {

class DiskContainer final : public Container {
 public:
  DiskContainer(const Input& input, DiskImage image) : image_(std::move(image)) {
    for (Finding& finding : image_.findings) add_finding(finding.level, std::move(finding.text));
    if (size_known() && image_.bytes->size() % 512 != 0)
      add_finding(Finding::Level::warning, "the disk's size is not a multiple of a sector (512 bytes)");
    Entry entry;
    std::string_view name = base_name(input.name);
    std::size_t dot = name.rfind('.');
    entry.path = std::string(dot == 0 || dot == std::string_view::npos ? name : name.substr(0, dot)) + ".raw";
    entry.size = image_.bytes->size();
    if (SourcePtr stored = input.content->source()) entry.stored_size = stored->size();
    entry.method = image_.method;
    entry.flags = Entry::sparse;
    if (image_.summed) entry.flags |= Entry::has_sum;
    if (image_.crc32) {
      entry.flags |= Entry::has_crc;
      entry.crc32 = *image_.crc32;
    }
    entries_.push_back(std::move(entry));
  }

  std::span<const Entry> entries() override { return entries_; }
  Facts facts() override {
    auto all = image_.facts;
    if (size_known()) all.emplace(all.begin(), "disk", human_size(image_.bytes->size()));
    return all;
  }
  Assembly rewrite(const Changes& changes, const Writing& writing) override {
    bool other_disk = changes.replaced.size() == 1 && changes.removed.empty() && changes.renamed.empty() &&
                      changes.added.empty();
    if (!image_.rewrite || !other_disk) return Container::rewrite(changes, writing);
    const NewEntry& disk = changes.replaced.begin()->second;
    if (disk.size != image_.bytes->size()) return Container::rewrite(changes, writing);
    return image_.rewrite(random_access(*disk.content, writing.spool));
  }
  ContentPtr content(std::size_t) override {
    struct Whole final : Content {
      Whole(SourcePtr all, std::optional<std::uint32_t> sum) : bytes(std::move(all)), crc(sum) {}
      StreamPtr stream() const override {
        return make_checked(make_source_stream(bytes), {bytes->size(), crc});
      }
      SourcePtr source() const override { return bytes; }
      SourcePtr bytes;
      std::optional<std::uint32_t> crc;
    };
    return std::make_shared<Whole>(image_.bytes, image_.crc32);
  }

 private:
  bool size_known() const { return image_.bytes->size() != Entry::kUnknownSize; }

  DiskImage image_;
  std::vector<Entry> entries_;
};

std::optional<std::string> id_of(Container& image) {
  for (const auto& [name, id] : image.facts())
    if (name == kIdFact) return id;
  return std::nullopt;
}

bool is_one_of(const std::string& id, const std::vector<std::string>& wanted) {
  return std::find(wanted.begin(), wanted.end(), id) != wanted.end();
}

bool has_one_of(Container& image, const std::vector<std::string>& wanted) {
  for (const auto& [name, id] : image.facts())
    if (name == kIdFact && is_one_of(id, wanted)) return true;
  return false;
}

/// A parent that was written to since, or another image of its name, gives wrong bytes.
void compare_id(Container& parent, const ParentImage& wanted, std::vector<Finding>& findings) {
  std::optional<std::string> id = id_of(parent);
  if (wanted.ids.empty() || !id || is_one_of(*id, wanted.ids)) return;
  findings.push_back(
      {Finding::Level::fault,
       fmt::format("the parent image \"{}\" beside it is not in the state that it is based on (its id "
                   "is {}, expected {}): what is read of the parent may be wrong",
                   escape(wanted.name), *id, wanted.ids.front())});
}

/// The image beside this one that has one of the ids. Each is opened alone, so that images that name each
/// other as parents do not lead in circles.
std::optional<Candidate> find_by_id(const Input& input, OpenContext& context,
                                    const std::vector<std::string>& ids) {
  std::optional<Candidate> found;
  input.sibling.each([&](const Candidate& candidate, const SourcePtr& file) {
    if (base_name(candidate.name) == base_name(input.name)) return true;
    Opened opened = open_container({make_content(file), candidate.name}, context);
    if (opened.container && opened.format->family == "disk image" && has_one_of(*opened.container, ids))
      found = candidate;
    return !found;
  });
  return found;
}

/// Opens a file as an image, or takes it as a raw disk.
SourcePtr open_as_parent(const SourcePtr& file, const std::string& name, const Input& child,
                         OpenContext& context, const ParentImage& wanted, std::vector<Finding>& findings) {
  Input parent{make_content(file), name, child.sibling};
  auto hide = [own = std::string(base_name(child.name))](std::string_view asked) {
    return base_name(asked) == own;  // no image is its own ancestor
  };
  parent.sibling.open = [sibling = child.sibling, hide](const std::string& asked) -> SourcePtr {
    return hide(asked) ? nullptr : sibling(asked);
  };
  parent.sibling.candidates = [sibling = child.sibling, hide] {
    std::vector<Candidate> all = sibling.all();
    std::erase_if(all, [&](const Candidate& one) { return hide(one.name); });
    return all;
  };
  Opened opened = open_container(parent, context);
  if (!opened.container || opened.format->family != "disk image") return file;
  for (const Finding& finding : opened.container->findings()) findings.push_back(finding);
  compare_id(*opened.container, wanted, findings);
  return opened.container->content(0)->source();
}

}  // namespace

ContainerPtr make_disk_image(const Input& input, DiskImage image) {
  return std::make_shared<DiskContainer>(input, std::move(image));
}

SourcePtr open_parent(const Input& input, OpenContext& context, const ParentImage& wanted,
                      std::vector<Finding>& findings) {
  std::size_t slash = wanted.name.find_last_of("/\\");
  std::string name = slash == std::string::npos ? wanted.name : wanted.name.substr(slash + 1);
  SourcePtr file =
      input.sibling && !name.empty() && name != base_name(input.name) ? input.sibling(name) : nullptr;
  bool right = file != nullptr;
  if (file && !wanted.ids.empty()) {
    Opened alone = open_container({make_content(file), name}, context);
    std::optional<std::string> id = alone.container ? id_of(*alone.container) : std::nullopt;
    right = !id || is_one_of(*id, wanted.ids);
  }
  if (!right && !wanted.ids.empty()) {
    auto found = find_by_id(input, context, wanted.ids);
    if (!found && !file) found = find_by_id(input, context, wanted.origins);
    if (found) {
      file = found->open();
      name = base_name(found->name);
      findings.push_back(
          {Finding::Level::note, fmt::format("its parent image is \"{}\" beside it", escape(name))});
    }
  }
  if (!file) {
    std::string called = name.empty() && !wanted.ids.empty()
                             ? "with id " + wanted.ids.front()
                             : fmt::format("\"{}\"", escape_briefly(wanted.name));
    findings.push_back(
        {Finding::Level::fault,
         fmt::format(
             "it holds only the differences to its parent image {}, which is not beside it; put it there",
             called)});
    // as large as any child: what lies beyond a parent's end reads as zeros
    return make_missing(
        INT64_MAX,
        fmt::format("this part is kept in the parent image {}, which is not beside this one", called));
  }
  return open_as_parent(file, name, input, context, wanted, findings);
}

}  // namespace operculum
