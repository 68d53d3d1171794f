// Windows imaging archives: the Windows Imaging File Format, with XPRESS ([MS-XCA] 2.2) and LZX ([MS-PATCH]
// 2) resources, also solid ones, and split sets.
#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <pugixml.hpp>
#include <set>

#include "base/error.h"
#include "base/fields.h"
#include "base/text.h"
#include "codec/codec.h"
#include "container/record_fields.h"
#include "format/filesystem/reparse.h"
#include "format/package/formats.h"
#include "format/package/wim_resource.h"

namespace operculum {
namespace {

using namespace wim;

constexpr std::uint64_t kMostMetadata = std::uint64_t{1} << 30, kMostXml = 16 << 20,
                        kLongestReparse = 64 * 1024;
constexpr int kMostDepth = 200;
constexpr std::size_t kLongestPath = 32768;
constexpr unsigned kMostParts = 999, kMostImages = 500;
constexpr std::uint64_t kSolidMark = std::uint64_t{1} << 32;  // the size that a solid resource itself states

/// A file of the split set.
struct Part {
  SourcePtr bytes;
  Header header;
};

/// A blob and the solid resource that it lies in, where it does.
struct Place {
  Blob blob;
  std::size_t solid = SIZE_MAX;
};

/// Empty data has no blob; its hash is all zeros.
bool is_nothing(const Bytes& hash) {
  return std::all_of(hash.begin(), hash.end(), [](Byte b) { return b == 0; });
}

class WimContainer final : public Container {
 public:
  WimContainer(const Input& input, OpenContext& context) : context_(context) {
    SourcePtr bytes = random_access(*input.content, context.spool);
    Header header = read_header(*bytes);
    codec_ = header.codec;
    add_part({bytes, header});
    if (header.parts > 1) find_parts(input, header);
    for (const Blob& blob : metadata_) {
      if (images_ == kMostImages) {
        add_finding(Finding::Level::fault, "there are more than 500 images; the others are left out");
        break;
      }
      read_image(blob);
    }
    if (header.images > images_) {
      add_finding(Finding::Level::fault,
                  fmt::format("the header states {} images, and {} were found; the first part "
                              "of a split set holds them",
                              header.images, images_));
    }
    read_xml(*bytes, header);
  }

  std::span<const Entry> entries() override { return entries_; }

  ContentPtr content(std::size_t index) override {
    const Bytes& hash = hashes_[index];
    if (is_nothing(hash)) return make_content(make_memory_source({}));
    ContentPtr raw = open(hash);
    Expected expected{entries_[index].size, std::nullopt, "sha1", hash};
    return std::make_shared<HashedContent>(std::move(raw), std::move(expected));
  }

  Facts facts() override {
    Facts facts{{"images", std::to_string(images_)}, {"method", std::string(name_of(codec_))}};
    if (parts_.size() > 1) facts.emplace_back("parts", std::to_string(parts_.size()));
    facts.insert(facts.end(), xml_facts_.begin(), xml_facts_.end());
    return facts;
  }

 private:
  /// Streams compare the hash; random access cannot, and is there for containers within.
  class HashedContent final : public Content {
   public:
    HashedContent(ContentPtr inner, Expected expected)
        : inner_(std::move(inner)), expected_(std::move(expected)) {}
    StreamPtr stream() const override { return make_checked(inner_->stream(), expected_); }
    SourcePtr source() const override { return inner_->source(); }

   private:
    ContentPtr inner_;
    Expected expected_;
  };

  void add_part(Part part) {
    std::vector<Blob> blobs = read_lookup(*part.bytes, part.header);
    std::size_t index = parts_.size();
    std::vector<std::size_t>
        run;  // solid resources that lie behind each other, and the blobs that lie in them
    std::vector<std::uint64_t> starts;
    std::uint64_t total = 0;
    bool in_blobs = false;
    for (Blob& blob : blobs) {
      blob.part = static_cast<std::uint16_t>(index);
      if (blob.resource.unused) continue;
      if (blob.resource.metadata) {
        metadata_.push_back(blob);
      } else if (!blob.resource.solid) {
        places_[blob.hash] = {blob, SIZE_MAX};
      } else if (blob.resource.size == kSolidMark) {
        if (in_blobs) {
          run.clear();
          starts.clear();
          total = 0;
          in_blobs = false;
        }
        run.push_back(solid_.size());
        starts.push_back(total);
        total += solid_size(*part.bytes, blob.resource);
        solid_.push_back({index, blob.resource, nullptr});
      } else {
        in_blobs = true;
        if (run.empty()) continue;
        auto after = std::upper_bound(starts.begin(), starts.end(), blob.resource.offset);
        auto which = static_cast<std::size_t>(after - starts.begin()) - 1;
        Place place{std::move(blob), run[which]};
        place.blob.resource.offset -= starts[which];
        place.blob.resource.size = place.blob.resource.stored;
        Bytes hash = place.blob.hash;
        places_[std::move(hash)] = std::move(place);
      }
    }
    parts_.push_back(std::move(part));
  }

  static std::uint64_t solid_size(const Source& bytes, const Resource& resource) {
    Bytes front = read_up_to(bytes, resource.offset, 8);
    return front.size() < 8 ? 0 : load_little<std::uint64_t>(front.data());
  }

  /// "x.swm", "x2.swm", "x3.swm", ...: the other parts beside the one given.
  void find_parts(const Input& input, const Header& header) {
    std::size_t dot = input.name.rfind('.');
    std::string stem = input.name.substr(0, dot),
                ending = dot == std::string::npos ? "" : input.name.substr(dot);
    if (header.part > 1) {
      std::string number = std::to_string(header.part);
      if (stem.ends_with(number)) stem.resize(stem.size() - number.size());
    }
    for (unsigned part = 1; part <= std::min<unsigned>(header.parts, kMostParts); ++part) {
      if (part == header.part) continue;
      std::string name = fmt::format("{}{}{}", stem, part == 1 ? "" : std::to_string(part), ending);
      std::string why = "is not there";
      try {
        SourcePtr bytes = input.sibling ? input.sibling(name) : nullptr;
        if (bytes) {
          Header own = read_header(*bytes);
          if (own.guid == header.guid && own.part == part) {
            add_part({bytes, own});
            continue;
          }
          why = "belongs to another set";
        }
      } catch (const Error& error) {
        why = fmt::format("cannot be read: {}", error.what());
      }
      add_finding(Finding::Level::fault, fmt::format("part {} of {}, \"{}\", {}: what lies in it is missing",
                                                     part, header.parts, escape(name), why));
    }
  }

  ContentPtr open(const Bytes& hash) {
    auto found = places_.find(hash);
    if (found == places_.end())
      throw Malformed(fmt::format("its data ({}) is not in the archive{}", to_hex(hash),
                                  parts_.front().header.parts > 1 ? ", or in a part that is not there" : ""));
    const Place& place = found->second;
    const Resource& resource = place.blob.resource;
    if (place.solid == SIZE_MAX) {
      const Part& part = parts_[place.blob.part];
      return open_resource(part.bytes, resource, part.header.codec, part.header.chunk);
    }
    SourcePtr all = solid_bytes(place.solid);
    return make_content(make_slice(all, resource.offset, resource.size));
  }

  SourcePtr solid_bytes(std::size_t index) {
    std::lock_guard lock(mutex_);
    Solid& solid = solid_[index];
    if (!solid.bytes) solid.bytes = open_solid(parts_[solid.part].bytes, solid.resource)->source();
    return solid.bytes;
  }

  // ---- the tree of an image

  void read_image(const Blob& blob) {
    ++images_;
    std::string prefix = metadata_.size() > 1 ? std::to_string(images_) : "";
    try {
      const Part& part = parts_[blob.part];
      if (blob.resource.size > kMostMetadata)
        throw LimitExceeded("an image with more than 1 GiB of metadata");
      ContentPtr content = open_resource(part.bytes, blob.resource, part.header.codec, part.header.chunk);
      StreamPtr stream = make_checked(content->stream(), {std::nullopt, std::nullopt, "sha1", blob.hash});
      Bytes raw = read_all(*stream, kMostMetadata);
      LittleFields f(raw, "image metadata");
      auto security = structure_at<SecurityHead>(f, 0);
      std::size_t root = rounded(std::max<std::size_t>(security.length, size_on_disk<SecurityHead>));
      std::set<std::size_t> seen;
      std::map<std::uint64_t, std::string> link_groups;
      auto below = static_cast<std::size_t>(structure_at<FileRecord>(f, root).below);
      folder(f, below, prefix, 0, seen, link_groups);
    } catch (const Error& error) {
      add_finding(Finding::Level::fault, fmt::format("image {}: {}", images_, error.what()));
    }
  }

  void folder(const LittleFields& f, std::size_t at, const std::string& path, int depth,
              std::set<std::size_t>& seen, std::map<std::uint64_t, std::string>& link_groups) {
    if (at == 0) return;
    if (depth > kMostDepth || path.size() > kLongestPath || !seen.insert(at).second) {
      add_finding(Finding::Level::fault,
                  fmt::format("the folder \"{}\" lies in itself, or too deep", escape(path)));
      return;
    }
    constexpr std::uint64_t kEnd = 8;  // a length: no file follows
    while (f.u64(at) > kEnd) {
      auto node = structure_at<FileRecord>(f, at);
      std::string name = name_at(f, at + size_on_disk<FileRecord>, node.name_size);
      std::string own = path.empty() ? name : fmt::format("{}/{}", path, name);
      at = take(f, node, own, at + rounded(node.length), link_groups);
      if ((node.attributes & Attribute::folder) != 0 && (node.attributes & Attribute::reparse) == 0)
        folder(f, static_cast<std::size_t>(node.below), own, depth + 1, seen, link_groups);
    }
  }

  template <typename S>
  static S structure_at(const LittleFields& f, std::size_t at) {
    return read_structure<S>(f.bytes(at, size_on_disk<S>).data());
  }

  static std::size_t rounded(std::uint64_t length) { return static_cast<std::size_t>((length + 7) / 8 * 8); }

  static std::string name_at(const LittleFields& f, std::size_t at, std::size_t size) {
    std::string name = to_utf8(f.text(at, size), "UTF-16LE").value_or("_");
    std::replace(name.begin(), name.end(), '/', '_');
    return name;
  }

  struct Named {
    std::string name;
    Bytes hash;
  };
  /// The streams of a node, from `at` on; moves it behind them.
  static std::vector<Named> streams_of(const LittleFields& f, const FileRecord& node, const std::string& path,
                                       std::size_t& at) {
    std::vector<Named> streams;
    for (unsigned i = 0; i < node.streams; ++i) {
      auto stream = structure_at<StreamRecord>(f, at);
      constexpr std::size_t kSize = size_on_disk<StreamRecord>;
      if (stream.length < kSize)
        throw Malformed(fmt::format("{}: a stream entry of {} bytes", escape(path), stream.length));
      streams.push_back(
          {name_at(f, at + kSize, stream.name_size), Bytes(stream.hash.begin(), stream.hash.end())});
      at += rounded(stream.length);
    }
    return streams;
  }

  /// Adds a node and its streams; returns where the next node is.
  std::size_t take(const LittleFields& f, const FileRecord& node, const std::string& path, std::size_t at,
                   std::map<std::uint64_t, std::string>& link_groups) {
    Entry entry;
    entry.path = path;
    entry.modified = from_filetime(node.modified);
    entry.extras().created = from_filetime(node.created);
    entry.extras().accessed = from_filetime(node.accessed);
    bool is_folder = (node.attributes & Attribute::folder) != 0,
         reparse = (node.attributes & Attribute::reparse) != 0;
    entry.mode = is_folder ? 0755 : (node.attributes & Attribute::read_only) != 0 ? 0444 : 0644;
    std::vector<Named> streams = streams_of(f, node, path, at);
    Bytes hash(node.hash.begin(), node.hash.end());
    for (const Named& stream : streams)
      if (stream.name.empty()) hash = stream.hash;  // the file's own data
    std::erase_if(streams, [](const Named& stream) { return stream.name.empty(); });
    std::uint64_t group = reparse ? 0 : node.link_group;
    if (reparse) {
      follow(entry, node.reparse_tag(), hash, is_folder);
    } else if (is_folder) {
      entry.kind = EntryKind::folder;
    } else if (group != 0) {
      auto [first, is_new] = link_groups.try_emplace(group, path);
      if (!is_new) {
        entry.kind = EntryKind::hard_link;
        entry.extras().link_target = first->second;
      }
    }
    Timestamp modified = entry.modified;
    add(std::move(entry), hash);
    for (Named& stream : streams) {
      Entry named;
      named.path = path + ":" + stream.name;
      named.modified = modified;
      add(std::move(named), stream.hash);
    }
    return at;
  }

  void follow(Entry& entry, std::uint32_t tag, const Bytes& hash, bool is_folder) {
    try {
      SourcePtr data = random_access(*open(hash), context_.spool);
      if (auto target = reparse_target(tag, read_up_to(*data, 0, kLongestReparse))) {
        entry.kind = EntryKind::symbolic_link;
        entry.extras().link_target = *target;
      } else if (is_folder) {
        entry.kind = EntryKind::folder;
      }
    } catch (const Error& error) {
      entry.flags |= Entry::damaged;
      if (is_folder) entry.kind = EntryKind::folder;
      add_finding(Finding::Level::warning,
                  fmt::format("{}: where it leads cannot be read: {}", escape(entry.path), error.what()));
    }
  }

  void add(Entry entry, const Bytes& hash) {
    if (entry.kind == EntryKind::file) {
      auto found = places_.find(hash);
      if (found == places_.end()) {
        if (is_nothing(hash)) entry.size = entry.stored_size = 0;
      } else {
        const Resource& resource = found->second.blob.resource;
        entry.size = resource.size;
        if (found->second.solid == SIZE_MAX) entry.stored_size = resource.stored;
        if (resource.packed || found->second.solid != SIZE_MAX) entry.method = name_of(codec_);
        entry.flags |= Entry::has_sum;
      }
    }
    context_.limits.count_kept(entry);
    entries_.push_back(std::move(entry));
    hashes_.push_back(hash);
  }

  void read_xml(const Source& bytes, const Header& header) {
    Bytes raw = read_up_to(bytes, header.xml.offset, std::min(header.xml.stored, kMostXml));
    pugi::xml_document document;
    if (!document.load_buffer(raw.data(), raw.size())) return;
    for (pugi::xml_node image : document.child("WIM").children("IMAGE")) {
      std::string text = image.child_value("NAME"), about = image.child_value("DESCRIPTION");
      if (!about.empty() && about != text) text += (text.empty() ? "" : ": ") + about;
      if (!text.empty())
        xml_facts_.emplace_back(fmt::format("image {}", image.attribute("INDEX").as_int()), text);
    }
  }

  struct Solid {
    std::size_t part;
    Resource resource;
    SourcePtr bytes;
  };

  OpenContext& context_;
  std::vector<Part> parts_;
  Packing codec_ = Packing::none;
  std::uint32_t images_ = 0;
  std::vector<Blob> metadata_;
  std::map<Bytes, Place> places_;
  std::mutex mutex_;  // guards the bytes of the next
  std::vector<Solid> solid_;
  std::vector<Entry> entries_;
  std::vector<Bytes> hashes_;
  Facts xml_facts_;
};

Match recognise_wim(Probe& probe) {
  ByteView head = probe.head(size_on_disk<HeaderRecord>);
  if (head.size() < size_on_disk<HeaderRecord> || !starts_with(head, kMark)) return Match::none;
  return read_field(&HeaderRecord::size, head.data()) >= kHeaderSize ? Match::front : Match::none;
}

ContainerPtr open_wim(const Input& input, OpenContext& context) {
  return std::make_shared<WimContainer>(input, context);
}

}  // namespace

Format wim_format() {
  return {.id = "wim",
          .name = "Windows imaging archive",
          .family = "package",
          .specification = "Windows Imaging File Format; [MS-XCA] 2.2, [MS-PATCH] 2",
          .reads =
              "several images, XPRESS and LZX, solid resources, hard links, alternate streams, links, split "
              "sets; hashes of all data",
          .lacks = "LZMS; packages of a delta kind",
          .suffixes = {".wim", ".swm", ".esd"},
          .recognise = recognise_wim,
          .open = open_wim,
          .records = {record_at<HeaderRecord>("header", 0)}};
}

}  // namespace operculum
