#include "format/image/disk_image.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "base/units.h"
#include "codec/codec.h"
#include "container/open.h"

namespace operculum {
namespace {

class DiskContainer final : public Container {
 public:
  DiskContainer(const Input& input, DiskImage image) : image_(std::move(image)) {
    for (Finding& finding : image_.findings) add_finding(finding.level, std::move(finding.text));
    if (image_.bytes->size() % 512 != 0)
      add_finding(Finding::Level::warning, "the disk's size is not a multiple of a sector (512 bytes)");
    Entry entry;
    std::string_view name = base_name(input.name);
    std::size_t dot = name.rfind('.');
    entry.path = std::string(dot == 0 || dot == std::string_view::npos ? name : name.substr(0, dot)) + ".raw";
    entry.size = image_.bytes->size();
    if (SourcePtr stored = input.content->source()) entry.stored_size = stored->size();
    entry.method = image_.method;
    entry.flags = Entry::sparse;
    if (image_.crc32) {
      entry.flags |= Entry::has_crc;
      entry.crc32 = *image_.crc32;
    }
    entries_.push_back(std::move(entry));
  }

  std::span<const Entry> entries() override { return entries_; }
  std::vector<std::pair<std::string, std::string>> facts() override {
    auto all = image_.facts;
    all.emplace(all.begin(), "disk", human_size(image_.bytes->size()));
    return all;
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
  DiskImage image_;
  std::vector<Entry> entries_;
};

class MissingSource final : public Source {
 public:
  explicit MissingSource(std::string name) : name_(std::move(name)) {}
  std::uint64_t size() const override { return 0; }
  std::size_t read_at(std::uint64_t, ByteSpan) const override {
    throw Malformed(fmt::format("this part is kept in the parent image \"{}\", which is not beside this one",
                                escape(name_)));
  }

 private:
  std::string name_;
};

/// A parent that was written to since, or another image of its name, gives wrong bytes.
void compare_id(Container& parent, const ParentImage& wanted, std::vector<Finding>& findings) {
  if (wanted.ids.empty()) return;
  for (const auto& [name, id] : parent.facts()) {
    if (name != kIdFact || std::find(wanted.ids.begin(), wanted.ids.end(), id) != wanted.ids.end()) continue;
    findings.push_back(
        {Finding::Level::fault,
         fmt::format("the parent image \"{}\" beside it is not in the state that it is based on (its id "
                     "is {}, expected {}): what is read of the parent may be wrong",
                     escape(wanted.name), id, wanted.ids.front())});
  }
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
  if (!file) {
    findings.push_back(
        {Finding::Level::fault,
         fmt::format(
             "it holds only the differences to its parent image \"{}\", which is not beside it; put it there",
             escape(wanted.name))});
    return std::make_shared<MissingSource>(name);
  }
  Input parent{make_content(file), name, nullptr};
  parent.sibling = [sibling = input.sibling,
                    own = std::string(base_name(input.name))](const std::string& asked) -> SourcePtr {
    return asked == own ? nullptr : sibling(asked);  // no image is its own ancestor
  };
  Opened opened = open_container(parent, context);
  if (!opened.container || opened.format->family != "disk image") return file;
  for (const Finding& finding : opened.container->findings()) findings.push_back(finding);
  compare_id(*opened.container, wanted, findings);
  return opened.container->content(0)->source();
}

}  // namespace operculum
