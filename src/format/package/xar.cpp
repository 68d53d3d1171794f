// xar archives: a header, a compressed XML table of contents, and a heap with the files' data. Installer
// packages of this kind hold their files in a nested payload.
#include <fmt/format.h>

#include <algorithm>
#include <cstdio>
#include <map>
#include <pugixml.hpp>

#include "base/error.h"
#include "base/structure.h"
#include "base/sum_kinds.h"
#include "base/text.h"
#include "codec/codec.h"
#include "container/record_fields.h"
#include "format/package/formats.h"

namespace operculum {
namespace {

constexpr std::string_view kMark = "xar!";
/// The header; the table of contents follows, packed with zlib.
struct HeaderRecord {
  std::array<Byte, 4> magic{};
  std::uint16_t size = 0, version = 0;
  std::uint64_t toc_length_compressed = 0, toc_length_uncompressed = 0;
  std::uint32_t cksum_alg = 0;
  static constexpr auto layout =
      big_endian(field("magic", &HeaderRecord::magic), field("size", &HeaderRecord::size),
                 field("version", &HeaderRecord::version),
                 field("toc_length_compressed", &HeaderRecord::toc_length_compressed),
                 field("toc_length_uncompressed", &HeaderRecord::toc_length_uncompressed),
                 field("cksum_alg", &HeaderRecord::cksum_alg));
};
constexpr std::size_t kHeader = size_on_disk<HeaderRecord>;
constexpr std::uint64_t kMostTable = 64 << 20;
constexpr int kMostDepth = 500;
constexpr std::size_t kLongestPath = 32768;

struct Encoding {
  std::string_view style, codec;
};
constexpr Encoding kEncodings[] = {{"application/octet-stream", "stored"}, {"application/x-gzip", "zlib"},
                                   {"application/zlib", "zlib"},           {"application/x-bzip2", "bzip2"},
                                   {"application/x-lzma", "lzma-alone"},   {"application/x-xz", "xz"}};

struct Kind {
  std::string_view type;
  EntryKind kind;
};
constexpr Kind kKinds[] = {{"file", EntryKind::file},
                           {"directory", EntryKind::folder},
                           {"symlink", EntryKind::symbolic_link},
                           {"hardlink", EntryKind::hard_link},
                           {"fifo", EntryKind::fifo},
                           {"character special", EntryKind::character_device},
                           {"block special", EntryKind::block_device},
                           {"socket", EntryKind::socket}};

constexpr std::uint64_t kMostAttribute = 64 << 10, kMostAttributes = 16 << 20;

/// "sha1", "SHA1", "sha-1" all mean the same.
std::string sum_name(std::string_view style) {
  std::string name = to_lower(style);
  name.erase(std::remove(name.begin(), name.end(), '-'), name.end());
  return name;
}

/// "2026-03-01T14:05:09Z".
Timestamp from_text(const char* text) {
  int year = 0, month = 0, day = 0, hour = 0, minute = 0, second = 0;
  if (std::sscanf(text, "%d-%d-%dT%d:%d:%d", &year, &month, &day, &hour, &minute, &second) != 6) return {};
  return from_calendar(year, month, day, hour, minute, second);
}

/// Where the data of a file lies in the heap, and how.
struct Data {
  std::uint64_t offset = 0, length = 0, size = 0;
  std::string_view codec = "stored";
  std::string unknown;  ///< an encoding that has no codec
  std::string sum;      ///< of the unpacked bytes
  Bytes digest;
  bool damaged_sum = false;  // one is stored that cannot be read
};

class XarContainer final : public Container {
 public:
  XarContainer(SourcePtr bytes, const Limits& limits) : bytes_(std::move(bytes)), limits_(limits) {
    Bytes header = read_exactly(*bytes_, 0, kHeader, "xar header");
    auto head = read_structure<HeaderRecord>(header.data());
    std::uint64_t packed = head.toc_length_compressed, unpacked = head.toc_length_uncompressed,
                  at = head.size;
    heap_ = at + packed;
    if (unpacked > kMostTable || packed > kMostTable)
      throw LimitExceeded("a xar table of contents of more than 64 MiB");
    StreamPtr stream = open_decoder("zlib", make_source_stream(bytes_, at, packed));
    Bytes text = read_all(*stream, kMostTable);
    limits_.count_retained(text.size() * 3);  // and what is made of it while it is read
    pugi::xml_document document;
    if (pugi::xml_parse_result parsed = document.load_buffer(text.data(), text.size()); !parsed)
      throw Malformed(
          fmt::format("xar table of contents: {} at character {}", parsed.description(), parsed.offset));
    pugi::xml_node table = document.child("xar").child("toc");
    check_table(table, at, packed);
    made_ = table.child_value("creation-time");
    for (pugi::xml_node file : table.children("file")) take(file, "", 0);
    if (heap_ + end_ > bytes_->size()) {
      add_finding(Finding::Level::fault,
                  fmt::format("the archive is cut short: its files reach to {} bytes, and "
                              "there are {}; get it again",
                              heap_ + end_, bytes_->size()));
    }
    for (auto [entry, id] : links_) {
      auto target = by_id_.find(id);
      if (target != by_id_.end()) entries_[entry].extras().link_target = target->second;
    }
  }

  std::span<const Entry> entries() override { return entries_; }

  ContentPtr content(std::size_t index) override { return open(data_[index]); }

  std::optional<PackedRun> packed_alone(std::size_t index) override {
    const Data& data = data_[index];
    if (!data.unknown.empty() || !entries_[index].has_data()) return std::nullopt;
    return PackedRun{data.codec, stored_bytes(data), std::nullopt, std::nullopt};
  }

  Facts facts() override {
    Facts facts;
    if (!made_.empty()) facts.emplace_back("made", made_);
    return facts;
  }

 private:
  SourcePtr stored_bytes(const Data& data) const {
    std::uint64_t at = heap_ + data.offset;
    if (at < heap_ || at > bytes_->size() || data.length > bytes_->size() - at)
      throw CutShort(
          fmt::format("its {} bytes lie behind the end of the file; the file is cut short", data.length));
    return make_slice(bytes_, at, data.length);
  }

  ContentPtr open(const Data& data) const {
    if (!data.unknown.empty()) throw Unsupported(fmt::format("xar data encoded as {}", escape(data.unknown)));
    SourcePtr packed = stored_bytes(data);
    if (data.codec == "stored" && data.sum.empty()) return make_content(packed);
    Expected expected{data.size, std::nullopt, {}, {}};
    if (const SumKind* kind = find_sum(data.sum)) {
      expected.sum = kind->name;
      expected.digest = data.digest;
    }
    return make_content([packed, codec = data.codec, expected] {
      StreamPtr stream = make_source_stream(packed);
      if (codec != "stored") stream = open_decoder(codec, std::move(stream));
      return make_checked(std::move(stream), expected);
    });
  }

  void check_table(const pugi::xml_node& table, std::uint64_t at, std::uint64_t packed) {
    pugi::xml_node sum = table.child("checksum");
    const SumKind* kind = find_sum(sum_name(sum.attribute("style").as_string()));
    if (!sum || kind == nullptr) return;
    Bytes stored = read_up_to(*bytes_, heap_ + sum.child("offset").text().as_ullong(), kind->bytes);
    auto computed = kind->make({});
    computed->add(read_up_to(*bytes_, at, packed));
    if (computed->finish() != stored)
      add_finding(
          Finding::Level::fault,
          fmt::format("the table of contents does not fit its {}; the archive is damaged", kind->name));
  }

  void take(const pugi::xml_node& file, const std::string& folder, int depth) {
    if (depth > kMostDepth || folder.size() > kLongestPath) {
      add_finding(Finding::Level::fault,
                  "folders lie in each other more than 500 deep, or have names of absurd length; what is in "
                  "them is left out");
      return;
    }
    Entry entry;
    entry.path = (folder.empty() ? "" : folder + "/") + file.child_value("name");
    std::string_view type = trim(file.child_value("type"));
    auto kind =
        std::find_if(std::begin(kKinds), std::end(kKinds), [&](const Kind& one) { return one.type == type; });
    entry.kind = kind == std::end(kKinds) ? EntryKind::file : kind->kind;
    if (auto mode = parse_number(trim(file.child_value("mode")), 8)) entry.mode = *mode & 07777;
    entry.modified = from_text(file.child_value("mtime"));
    EntryExtra& extra = entry.extras();
    extra.owner = file.child_value("user");
    extra.group = file.child_value("group");
    extra.user_id = file.child("uid").text().as_uint();
    extra.group_id = file.child("gid").text().as_uint();
    if (entry.kind == EntryKind::symbolic_link) extra.link_target = file.child_value("link");
    std::string id = file.attribute("id").as_string();
    if (entry.kind == EntryKind::hard_link) {
      std::string original = file.child("type").attribute("link").as_string();
      if (original == "original") {
        entry.kind = EntryKind::file;
      } else {
        links_.emplace_back(entries_.size(), original);
      }
    }
    by_id_[id] = entry.path;
    Data data;
    for (pugi::xml_node attribute : file.children("ea")) take_attribute(attribute, entry);
    if (entry.kind == EntryKind::file) {
      data = read_data(file.child("data"));
      entry.size = data.size;
      entry.stored_size = data.length;
      entry.stored_at = heap_ + data.offset;
      entry.method = data.codec;
      if (!data.sum.empty()) entry.flags |= Entry::has_sum;
      if (data.damaged_sum)
        add_finding(
            Finding::Level::fault,
            fmt::format("{}: its stored checksum is damaged and could not be compared", escape(entry.path)));
    }
    std::string path = entry.path;
    limits_.count_kept(entry);
    limits_.count_retained(path.size() + id.size());  // by_id_
    entries_.push_back(std::move(entry));
    data_.push_back(std::move(data));
    for (pugi::xml_node inner : file.children("file")) take(inner, path, depth + 1);
  }

  /// An extended attribute: its value lies in the heap as the data of files does.
  void take_attribute(const pugi::xml_node& node, Entry& entry) {
    std::string name = node.child_value("name");
    try {
      Data data = read_data(node);
      if (data.size > kMostAttribute || attributes_ + data.size > kMostAttributes)
        throw LimitExceeded(fmt::format("{} bytes of extended attributes", data.size));
      attributes_ += data.size;
      Bytes value = read_all(*open(data)->stream(), kMostAttribute);
      entry.extras().attributes.emplace_back(name, as_text(value));
    } catch (const Error& error) {
      add_finding(Finding::Level::fault, fmt::format("{}: the extended attribute {} is left out: {}",
                                                     escape(entry.path), escape(name), error.what()));
    }
  }

  Data read_data(const pugi::xml_node& node) {
    Data data;
    data.offset = node.child("offset").text().as_ullong();
    data.length = node.child("length").text().as_ullong();
    data.size = node.child("size").text().as_ullong();
    std::string_view style = node.child("encoding").attribute("style").as_string("application/octet-stream");
    auto known = std::find_if(std::begin(kEncodings), std::end(kEncodings),
                              [&](const Encoding& one) { return one.style == style; });
    if (known == std::end(kEncodings)) {
      data.unknown = style;
    } else {
      data.codec = known->codec;
    }
    pugi::xml_node sum = node.child("extracted-checksum");
    std::string name = sum_name(sum.attribute("style").as_string());
    if (auto digest = read_digest(name, trim(sum.text().as_string()))) {
      data.sum = name;
      data.digest = std::move(*digest);
    }
    data.damaged_sum = is_damaged_digest(name, trim(sum.text().as_string()));
    end_ = std::max(end_, data.offset + data.length);
    return data;
  }

  SourcePtr bytes_;
  const Limits& limits_;
  std::uint64_t heap_ = 0, end_ = 0;  // where the heap begins, and how far files reach in it
  std::uint64_t attributes_ = 0;      // bytes of extended attributes so far
  std::string made_;
  std::vector<Entry> entries_;
  std::vector<Data> data_;
  std::map<std::string, std::string> by_id_;                // to path
  std::vector<std::pair<std::size_t, std::string>> links_;  // hard links, and the id of what they are
};

Match recognise_xar(Probe& probe) {
  ByteView head = probe.head(kHeader);
  if (head.size() < kHeader || !starts_with(head, kMark)) return Match::none;
  auto header = read_structure<HeaderRecord>(head.data());
  return header.size >= kHeader && header.version <= 1 ? Match::front : Match::none;
}

ContainerPtr open_xar(const Input& input, OpenContext& context) {
  return std::make_shared<XarContainer>(random_access(*input.content, context.spool), context.limits);
}

}  // namespace

Format xar_format() {
  return {
      .id = "xar",
      .name = "xar archive",
      .family = "package",
      .specification = "xar file format, version 1",
      .reads =
          "stored, zlib, bzip2, LZMA and xz data; links, owners; checksums of the table and of each file; "
          "extended attributes",
      .lacks = "checking of signatures",
      .suffixes = {".xar", ".pkg", ".xip"},
      .recognise = recognise_xar,
      .open = open_xar,
      .records = {record_at<HeaderRecord>("header", 0)}};
}

}  // namespace operculum
