// Windows executables: the PE format specification, revision 11, with the resource formats as the Windows SDK
// publishes them. What lies behind the image or within it is looked for by content.
#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "base/error.h"
#include "base/structure.h"
#include "base/text.h"
#include "container/embedded.h"
#include "container/record_fields.h"
#include "format/package/formats.h"
#include "format/package/pe_records.h"
#include "format/package/pe_resources.h"

namespace operculum {
namespace {

using namespace pe;

constexpr std::string_view kSubsystems[] = {"", "driver or native program", "window program",
                                            "console program"};
constexpr std::uint16_t kFirstEfi = 10, kLastEfi = 13;
constexpr std::size_t kMostVersion = 64 * 1024;

/// Strings of the version information that identify shows.
constexpr std::pair<std::string_view, const char*> kAbout[] = {{"ProductName", "product"},
                                                               {"ProductVersion", "version"},
                                                               {"CompanyName", "maker"},
                                                               {"FileDescription", "title"}};

class PeContainer final : public Container {
 public:
  PeContainer(SourcePtr bytes, Image image, OpenContext& context)
      : bytes_(std::move(bytes)), image_(std::move(image)), context_(context) {
    if (image_.stated_end > bytes_->size()) {
      add_finding(Finding::Level::fault,
                  fmt::format("the program is cut short: its sections reach to {} bytes, "
                              "and there are {}; get it again",
                              image_.stated_end, bytes_->size()));
    }
    auto tell = [this](const std::string& trouble) { add_finding(Finding::Level::warning, trouble); };
    resources_ = read_resources(*bytes_, image_, tell);
  }

  std::span<const Entry> entries() override {
    std::call_once(listed_, [this] { list(); });
    return entries_;
  }

  ContentPtr content(std::size_t index) override {
    const Place& place = places_[index];
    if (!place.make) return make_content(make_slice(bytes_, place.at, entries_[index].size));
    return make_content(make_memory_source(place.make()));
  }

  Facts facts() override {
    Facts facts;
    std::string_view kind = image_.subsystem < std::size(kSubsystems) ? kSubsystems[image_.subsystem] : "";
    if (image_.subsystem >= kFirstEfi && image_.subsystem <= kLastEfi) kind = "EFI program";
    facts.emplace_back("program", fmt::format("{}{}{}", machine_name(image_.machine),
                                              image_.is_library() ? ", library"
                                              : kind.empty()      ? ""
                                                                  : ", ",
                                              image_.is_library() ? "" : kind));
    for (const Resource& one : resources_) {
      if (one.type != kVersionType || !one.type_name.empty()) continue;
      Bytes raw = read_up_to(*bytes_, one.at, std::min<std::uint64_t>(one.size, kMostVersion));
      for (auto& [name, value] : read_version(raw)) {
        auto known = std::find_if(std::begin(kAbout), std::end(kAbout),
                                  [&, &own = name](const auto& about) { return about.first == own; });
        if (known != std::end(kAbout)) facts.emplace_back(known->second, value);
      }
      break;
    }
    if (image_.signature_size != 0) facts.emplace_back("signature", "there is one; it is not checked");
    return facts;
  }

 private:
  struct Place {
    std::uint64_t at = 0;
    std::function<Bytes()> make;
  };

  void add(std::string path, std::uint64_t at, std::uint64_t size, std::function<Bytes()> make = nullptr) {
    Entry entry;
    entry.path = std::move(path);
    entry.stored_at = at;
    if (make) {
      entry.method = "converted";
    } else {
      entry.size = entry.stored_size = size;
    }
    context_.limits.count_kept(entry);
    entries_.push_back(std::move(entry));
    places_.push_back({at, std::move(make)});
  }

  void list() {
    for (Presented& one : present(bytes_, resources_))
      add("resources/" + one.path, one.at, one.size, std::move(one.make));
    std::map<std::string, unsigned> names;
    for (const Section& section : image_.sections) {
      if (section.size == 0) continue;
      std::string name = section.name.empty() ? "unnamed" : section.name;
      std::replace(name.begin(), name.end(), '/', '_');
      unsigned same = ++names[name];
      add("sections/" + name + (same == 1 ? "" : fmt::format("-{}", same)), section.at, section.size);
    }
    list_embedded();
    list_end();
  }

  /// Containers within sections that are no resource of their own.
  void list_embedded() {
    std::vector<Section> sections = image_.sections;
    std::sort(sections.begin(), sections.end(),
              [](const Section& a, const Section& b) { return a.at < b.at; });
    std::uint64_t done = 0;  // sections may overlap; no byte is searched twice
    for (const Section& section : sections) {
      std::uint64_t from = std::max(section.at, done), end = section.at + section.size;
      if (from >= end) continue;
      done = end;
      for (const Embedded& one : find_embedded(bytes_, from, end - from, context_)) {
        bool listed = std::any_of(resources_.begin(), resources_.end(), [&](const Resource& resource) {
          return one.at >= resource.at && one.at < resource.at + resource.size;
        });
        if (!listed) add("embedded/" + name_of(one), one.at, one.size);
      }
    }
  }

  /// Signature and overlay: what lies behind the sections.
  void list_end() {
    std::uint64_t size = bytes_->size();
    if (image_.signature_size != 0) {
      // Each certificate stands behind a header of eight bytes, filled up to a multiple of eight.
      std::uint64_t at = image_.signature_at, end = at + image_.signature_size;
      for (int number = 1; at + 8 < end && number <= 16; ++number) {
        Bytes header = read_up_to(*bytes_, at, 8);
        std::uint64_t length = header.size() < 8 ? 0 : load_little<std::uint32_t>(header.data());
        if (length <= 8 || length > end - at) break;
        add(fmt::format("signature/{}.p7s", number), at + 8, length - 8);
        at += (length + 7) / 8 * 8;
      }
    }
    std::uint64_t until =
        image_.signature_at >= image_.end && image_.signature_size != 0 ? image_.signature_at : size;
    if (until > image_.end) overlay(image_.end, until);
    std::uint64_t behind = image_.signature_at + image_.signature_size;
    if (until != size && behind < size) overlay(behind, size);
  }

  void overlay(std::uint64_t at, std::uint64_t end) {
    std::vector<Embedded> found = find_embedded(bytes_, at, end - at, context_);
    for (const Embedded& one : found) add("embedded/" + name_of(one), one.at, one.size);
    if (found.empty() || found.front().at != at || found.front().size < end - at)
      add("overlay", at, end - at);
  }

  SourcePtr bytes_;
  Image image_;
  OpenContext& context_;
  std::vector<Resource> resources_;
  std::once_flag listed_;
  std::vector<Entry> entries_;
  std::vector<Place> places_;
};

/// An archive that has such a program only in front is that archive first of all: something behind the
/// sections makes the match weaker.
Match recognise_pe(Probe& probe) {
  auto at = headers_at(probe.head(size_on_disk<DosHeader>));
  if (!at) return Match::none;
  constexpr std::size_t head_size = size_on_disk<FileHeader>;
  Bytes header = probe.at(*at, head_size + sizeof(std::uint16_t));  // and the optional header's magic
  if (header.size() < head_size + sizeof(std::uint16_t)) return Match::none;
  if (!starts_with(header, std::string_view("PE\0\0", 4))) return Match::none;
  std::uint16_t magic = load_little<std::uint16_t>(header.data() + head_size);
  if (magic != kNarrowMagic && magic != kWideMagic) return Match::none;
  if (!probe.source()) return Match::inside;
  try {
    auto image = read_image(*probe.source());
    std::uint64_t end = image ? std::max(image->stated_end, image->signature_at + image->signature_size) : 0;
    return end >= probe.source()->size() ? Match::front : Match::inside;
  } catch (const Malformed&) {
    return Match::inside;
  }
}

ContainerPtr open_pe(const Input& input, OpenContext& context) {
  SourcePtr bytes = random_access(*input.content, context.spool);
  auto image = read_image(*bytes);
  if (!image) throw Malformed("PE: the headers are not all there; the program is cut short");
  return std::make_shared<PeContainer>(std::move(bytes), std::move(*image), context);
}

}  // namespace

Format pe_format() {
  return {.id = "pe",
          .name = "Windows executable",
          .family = "package",
          .specification = "PE format, revision 11; resource file formats of the Windows SDK",
          .reads =
              "32 and 64 bit; sections, resources (icons as .ico, bitmaps, strings and version as text), "
              "signature, overlay; containers embedded anywhere",
          .lacks = "checking of signatures; 16-bit executables",
          .suffixes = {".exe", ".dll", ".sys", ".scr", ".ocx", ".efi", ".cpl", ".mui"},
          .kind = "executable",
          .carries = true,
          .recognise = recognise_pe,
          .open = open_pe,
          .records = {record_at<DosHeader>("DOS header", 0)}};
}

}  // namespace operculum
