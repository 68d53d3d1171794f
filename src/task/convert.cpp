#include "task/convert.h"

#include <fmt/format.h>

#include <algorithm>
#include <unordered_map>

#include "base/error.h"
#include "base/text.h"
#include "base/units.h"
#include "container/locator.h"
#include "task/make_file.h"
#include "task/rebuild_layers.h"

namespace operculum {
namespace {

/// Says which entry it is that cannot be read.
class NamedContent final : public Content {
 public:
  NamedContent(ContentPtr inner, std::string path) : inner_(std::move(inner)), path_(std::move(path)) {}
  StreamPtr stream() const override {
    struct Named final : Stream {
      Named(StreamPtr of, const std::string& entry) : inner(std::move(of)), path(entry) {}
      std::size_t read(ByteSpan out) override {
        try {
          return inner->read(out);
        } catch (const Malformed& error) {
          throw Malformed(
              fmt::format("\"{}\" cannot be read, so nothing is written: {}", escape(path), error.what()));
        }
      }
      StreamPtr inner;
      std::string path;
    };
    return std::make_unique<Named>(inner_->stream(), path_);
  }
  SourcePtr source() const override { return inner_->source(); }

 private:
  ContentPtr inner_;
  std::string path_;
};

/// Collects the entries of a container for another format.
class Gather {
 public:
  Gather(Container& container, const std::string& inside, const Keeps& keeps)
      : container_(container), entries_(container.entries()), keeps_(keeps) {
    if (!inside.empty()) front_ = inside + "/";
  }

  std::vector<NewEntry> run() {
    std::vector<NewEntry> out;
    for (std::size_t i = 0; i < entries_.size(); ++i) {
      const Entry& entry = entries_[i];
      if (!entry.path.starts_with(front_) || entry.path == ".") continue;
      if (auto made = made_of(i)) out.push_back(std::move(*made));
    }
    return out;
  }

  Losses losses() const {
    Losses out;
    for (const auto& [what, count] : lost_) out.push_back(fmt::format("{} ({})", what, grouped(count)));
    return out;
  }

 private:
  std::optional<NewEntry> made_of(std::size_t index) {
    const Entry& entry = entries_[index];
    NewEntry out;
    out.path = entry.path.substr(front_.size());
    out.kind = entry.kind;
    out.mode = entry.mode != Entry::kNoMode ? entry.mode : entry.kind == EntryKind::folder ? 0755 : 0644;
    out.modified = entry.modified;
    out.link_target = entry.link_target();
    if (entry.mode != Entry::kNoMode && !keeps_.modes) ++lost_["the modes"];
    if (entry.extra) take_extra(*entry.extra, out);
    switch (entry.kind) {
      case EntryKind::folder:
        if (!keeps_.folders) return lose("the folders");
        return out;
      case EntryKind::symbolic_link:
        if (!keeps_.links) return lose("the links");
        return out;
      case EntryKind::hard_link:
        return of_hard_link(std::move(out), index);
      case EntryKind::file:
        give_content(out, index);
        return out;
      default:
        if (keeps_.devices) return out;
        return lose("the devices and pipes, which are left out");
    }
  }

  std::nullopt_t lose(const char* what) {
    ++lost_[what];
    return std::nullopt;
  }

  void take_extra(const EntryExtra& extra, NewEntry& out) {
    bool owned = !extra.owner.empty() || !extra.group.empty() || extra.user_id != 0 || extra.group_id != 0;
    if (owned && !keeps_.owners) ++lost_["the owners"];
    if (!extra.comment.empty()) ++lost_["the comments"];
    if (!extra.attributes.empty() && !keeps_.attributes) ++lost_["the extended attributes"];
    if (extra.created.known() || extra.accessed.known()) ++lost_["the times of creation and access"];
    out.user_id = extra.user_id;
    out.group_id = extra.group_id;
    out.device_major = extra.device_major;
    out.device_minor = extra.device_minor;
    out.attributes = extra.attributes;
    out.owner = extra.owner;
    out.group = extra.group;
  }

  /// Where there are no hard links each becomes a file of its own.
  std::optional<NewEntry> of_hard_link(NewEntry out, std::size_t index) {
    bool within = out.link_target.starts_with(front_);
    if (keeps_.hard_links && within) {
      out.link_target.erase(0, front_.size());
      return out;
    }
    ++lost_["the hard links, which become files of their own"];
    std::size_t target = file_at(entries_[index]);
    out.kind = EntryKind::file;
    out.link_target.clear();
    give_content(out, target);
    return out;
  }

  /// The file that a hard link is another name of.
  std::size_t file_at(const Entry& link) {
    if (files_.empty()) {
      for (std::size_t i = 0; i < entries_.size(); ++i) {
        if (entries_[i].kind == EntryKind::file) files_[entries_[i].path] = i;
      }
    }
    auto found = files_.find(link.link_target());
    if (found != files_.end()) return found->second;
    throw Malformed(fmt::format("the hard link \"{}\" leads to \"{}\", which is not there", escape(link.path),
                                escape(link.link_target())));
  }

  void give_content(NewEntry& out, std::size_t index) {
    ContentPtr content = container_.content(index);
    const Entry& entry = entries_[index];
    out.size = entry.size_known() ? entry.size : content->stream()->skip(UINT64_MAX);
    out.content = std::make_shared<NamedContent>(std::move(content), entry.path);
    out.packed = container_.packed_alone(index);
  }

  Container& container_;
  std::span<const Entry> entries_;
  const Keeps& keeps_;
  std::string front_;
  std::map<std::string, std::uint64_t> lost_;
  std::unordered_map<std::string_view, std::size_t> files_;  // by path; for hard links
};

constexpr std::string_view kRaw = "raw";

/// The disk in the innermost disk image; without one, in the innermost volume, decrypted or put together.
ContentPtr disk_of(const Place& place) {
  for (std::string_view family : {"disk image", "volume"}) {
    for (std::size_t i = place.layers.size(); i-- > 0;) {
      const Layer& one = place.layers[i];
      if (one.format->family == family && (family == "disk image" || one.format->single_stream))
        return one.container->content(0);
    }
  }
  throw Unsupported("taking a raw disk out of what is no disk image");
}

/// The bytes of the file or entry that is named, as they lie packed in the layer around it.
std::optional<PackedRun> packed_in(const Place& place) {
  bool is_container = place.is_container();
  std::size_t outer = is_container ? 2 : 1;  // layers, from the inside
  if (place.layers.size() < outer) return std::nullopt;
  Container& container = *place.layers[place.layers.size() - outer].container;
  const Entry* entry = is_container ? place.layers.back().entry.get() : place.entry.get();
  std::span<const Entry> all = container.entries();
  auto found = std::find_if(all.begin(), all.end(), [&](const Entry& one) { return &one == entry; });
  if (found == all.end()) return std::nullopt;
  return container.packed_alone(static_cast<std::size_t>(found - all.begin()));
}

}  // namespace

RebuildResult convert(const ConvertRequest& request, OpenContext& context, Progress& progress,
                      const std::function<bool(const Losses&)>& losses) {
  Place place = resolve(request.target, context, Step::into);
  bool raw = request.as == kRaw;
  FileToMake what = raw ? FileToMake{} : formats_of(request.as, context);
  what.choice = request.choice;
  what.into = request.into;
  what.dry_run = request.dry_run;
  bool has_container = !place.layers.empty() && !place.entry;
  bool same_inside = has_container && what.container == place.layers.back().format && place.inside.empty();
  std::optional<RebuildLayer> layer;  // keeps what contents read from
  Losses lost;
  if (raw) {
    what.bytes = disk_of(place);
  } else if (what.container == nullptr || same_inside) {
    what.container = nullptr;
    what.bytes = has_container ? place.layers.back().content : place.content;
    if (!what.codecs.empty()) what.packed = packed_in(place);
  } else if (what.container->family == "disk image") {
    NewEntry disk;
    disk.content = has_container ? place.layers.back().content : place.content;
    bool wrapped = std::any_of(place.layers.begin(), place.layers.end(),
                               [](const Layer& one) { return one.format->family == "disk image"; });
    if (wrapped) disk.content = disk_of(place);
    SourcePtr source = random_access(*disk.content, context.spool);
    disk.content = make_content(source);
    disk.size = source->size();
    what.entries.push_back(std::move(disk));
  } else if (!has_container) {
    throw Malformed(no_container_text(place, ", so there are no entries to convert"));
  } else {
    layer = prepare_layer(place.layers.back(), context);
    Gather gather(*layer->shown, place.inside, what.container->keeps);
    what.entries = gather.run();
    lost = gather.losses();
  }
  if (!lost.empty() && !losses(lost)) return {};
  return make_file(what, context, progress);
}

}  // namespace operculum
