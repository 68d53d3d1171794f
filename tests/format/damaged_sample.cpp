#include "format/damaged_sample.h"

#include <fmt/format.h>

#include <algorithm>

#include "codec/codec.h"
#include "format/package/formats.h"
#include "fuzz/pages.h"
#include "fuzz/seeds.h"
#include "support/kernel_images.h"
#include "support/open.h"
#include "support/sample_tree.h"
#include "support/tar_builder.h"
#include "support/temp_folder.h"
#include "support/zip_builder.h"

namespace operculum::test {
namespace {

constexpr std::uint64_t kMostRead = 1 << 20;  // bytes of an entry
constexpr std::string_view kOfPages = "-pages";

/// The bytes of a sample with some changed.
class Patched final : public Source {
 public:
  Patched(const Bytes& sample, const Damage& changes, Reads* reads = nullptr)
      : bytes_(sample), changes_(changes), reads_(reads) {}
  std::uint64_t size() const override { return bytes_.size(); }
  std::size_t read_at(std::uint64_t offset, ByteSpan out) const override {
    if (offset >= bytes_.size()) return 0;
    if (reads_ != nullptr) reads_->note(offset, out.size());
    out = out.first(static_cast<std::size_t>(std::min<std::uint64_t>(out.size(), bytes_.size() - offset)));
    std::copy_n(bytes_.begin() + static_cast<std::ptrdiff_t>(offset), out.size(), out.begin());
    for (const ChangedBytes& change : changes_)
      for (std::size_t i = 0; i < change.bytes.size(); ++i)
        if (std::uint64_t at = change.at + i; at >= offset && at - offset < out.size())
          out[at - offset] = change.bytes[i];
    return out.size();
  }

 private:
  const Bytes& bytes_;
  Damage changes_;
  Reads* reads_;
};

/// Everything that is said when a container is listed and read to its end.
void tell_of(Container& container, std::set<std::string>& told) {
  container.facts();
  for (std::size_t i = 0; i < container.entries().size(); ++i) {
    if (!container.entries()[i].has_data()) continue;
    try {
      StreamPtr stream = container.content(i)->stream();
      Bytes block(64 * 1024);
      for (std::uint64_t done = 0, count = 1; count > 0 && done < kMostRead; done += count)
        count = stream->read(block);
    } catch (const Error& error) {
      told.insert(error.what());
    }
  }
  for (const Finding& finding : container.findings()) told.insert(finding.text);
}

/// The same of a sample that is opened as what it is recognised as.
std::set<std::string> told_of(const SourcePtr& source) {
  std::set<std::string> told;
  try {
    Held held = open_source(source);
    if (held.opened.container) {
      tell_of(*held, told);
    } else {
      told.insert(held.opened.almost.begin(), held.opened.almost.end());
    }
  } catch (const Error& error) {
    told.insert(error.what());
  }
  return told;
}

/// The same of one that is opened as `format`, as when another layer says what it is.
void tell_as(const Format& format, const SourcePtr& source, std::set<std::string>& told) {
  OpenContext context;
  try {
    tell_of(*format.open({make_content(source), "sample"}, context), told);
  } catch (const Error& error) {
    told.insert(error.what());
  }
}

/// What a sample is: of one of fuzz/corpus the format that its folder names, of the others what they are
/// recognised as where nothing is changed; null where it is no format's.
const Format* format_of(const std::string& name) {
  if (!name.starts_with(kCorpusSamples)) {
    static std::map<std::string, const Format*> known;
    auto [found, is_new] = known.emplace(name, nullptr);
    if (!is_new) return found->second;
    try {
      found->second = open_source(std::make_shared<Patched>(named_sample(name), Damage{})).opened.format;
    } catch (const Error&) {
      // a sample that is cut: what it is is not known
    }
    return found->second;
  }
  std::string_view folder =
      std::string_view(name).substr(kCorpusSamples.size(), name.rfind('/') - kCorpusSamples.size());
  if (folder.ends_with(kOfPages)) folder.remove_suffix(kOfPages.size());
  auto found = std::ranges::find(formats(), folder, &Format::id);
  return found == formats().end() ? nullptr : &*found;
}

}  // namespace

const Bytes& named_sample(const std::string& name) {
  static std::map<std::string, Bytes> known = fuzz::seeds();
  auto found = known.find(name);
  if (found != known.end()) return found->second;
  if (name.starts_with(kCorpusSamples))
    return known[name] = to_bytes(read_file(fmt::format("{}/fuzz/{}", OPERCULUM_SOURCE, name)));
  if (name.starts_with("kernel-")) {
    std::string set = name.substr(7);
    KernelImages images(set);
    Bytes image = to_bytes(images.folder().read(set + ".img"));
    return known[name] = std::move(image);
  }
  SampleTree tree = {{.path = "pool", .kind = EntryKind::folder},
                     {.path = "pool/tide.csv", .data = Bytes(3000, 'x')}};
  if (name == "zip")
    return known[name] = ZipBuilder()
                             .folder("pool")
                             .add("pool/tide.csv", std::string(3000, 'x'))
                             .stored("crab.txt", to_bytes("pinch"))
                             .zip64()
                             .build();
  if (name == "tar")
    return known[name] = TarBuilder().folder("pool").file("pool/tide.csv", std::string(3000, 'x')).build();
  return known[name] = encode(name, Bytes(5000, 'h'));
}

std::set<std::string> told_of_damage(const std::string& name, const Damage& changes, Reads* reads) {
  auto source = std::make_shared<Patched>(named_sample(name), changes, reads);
  bool of_pages = name.starts_with(kCorpusSamples) && name.find(std::string(kOfPages) + "/") != name.npos;
  SourcePtr image = of_pages ? fuzz::pages_of(read_up_to(*source, 0, source->size())) : SourcePtr(source);
  std::set<std::string> told = told_of(image);
  if (const Format* format = format_of(name)) tell_as(*format, image, told);
  return told;
}

}  // namespace operculum::test
