#include "format/archive/cpio_editor.h"

#include <sys/stat.h>

#include <algorithm>

#include "base/error.h"
#include "base/text.h"
#include "format/archive/cpio_header.h"

namespace operculum::cpio {
namespace {

constexpr std::uint64_t kFirstNewInode = 0x1000;  // of entries that were not there; their links are one each

/// The sum of all bytes, which the crc form keeps.
std::uint32_t sum_of(const Content& content) {
  StreamPtr stream = content.stream();
  Bytes buffer(64 * 1024);
  std::uint32_t sum = 0;
  while (std::size_t count = stream->read(buffer)) {
    for (std::size_t i = 0; i < count; ++i) sum += buffer[i];
  }
  return sum;
}

std::uint64_t type_bits(EntryKind kind) {
  return kind == EntryKind::folder ? S_IFDIR : kind == EntryKind::symbolic_link ? S_IFLNK : S_IFREG;
}

bool has_small_letters(ByteView bytes) {
  return std::any_of(bytes.begin(), bytes.end(), [](Byte b) { return b >= 'a' && b <= 'f'; });
}

class CpioEditor final : public SequenceEditor {
 public:
  Bytes changed_headers(const OldItem& old, const ItemChange& change) override {
    learn(old.headers);
    Header header = read_header(old.headers, 0, *info_);
    std::string name(
        as_text(old.headers.subspan(info_->header_size, static_cast<std::size_t>(header.namesize))));
    bool had_front = name.starts_with("./");
    name = until_zero(name);
    if (change.path != nullptr) name = (had_front ? "./" : "") + *change.path;
    if (change.content != nullptr) {
      header.filesize = change.size;
      if (info_->variant == Variant::crc) header.check = sum_of(*data_of(*change.content));
    }
    Bytes out = with_name(header, name);
    if (old.entry.kind != EntryKind::symbolic_link || change.content != nullptr) return out;
    std::string_view target = old.entry.link_target();  // counts as header while it is read
    out.insert(out.end(), target.begin(), target.end());
    out.resize(out.size() + static_cast<std::size_t>(padding(out.size())));
    return out;
  }

  Bytes new_headers(const NewEntry& entry, std::uint64_t size, ByteView like) override {
    if (!like.empty()) learn(like);
    Header header;
    header.ino = entry.path == kTrailerName ? 0 : kFirstNewInode + made_++;
    header.mode = entry.path == kTrailerName ? 0 : type_bits(entry.kind) | (entry.mode & 07777);
    header.uid = entry.user_id;
    header.gid = entry.group_id;
    header.nlink = entry.kind == EntryKind::folder ? 2 : 1;
    if (entry.modified.known() && entry.modified.seconds >= 0)
      header.mtime = static_cast<std::uint64_t>(entry.modified.seconds);
    header.filesize = size;
    if (info_->variant == Variant::crc && entry.kind != EntryKind::folder)
      header.check = sum_of(*data_of(entry));
    return with_name(header, entry.path);
  }

  std::uint64_t padding(std::uint64_t length) const override { return padding_to(length, info_->alignment); }

  std::optional<std::uint64_t> filling(std::uint64_t size, std::uint64_t old_size) const override {
    return old_size % kBlock == 0 ? padding_to(size, kBlock) : 0;
  }

  ContentPtr data_of(const NewEntry& entry) const override {
    if (entry.kind != EntryKind::symbolic_link) return entry.content ? entry.content : empty();
    ByteView target = as_bytes(entry.link_target);
    return make_content(make_memory_source(Bytes(target.begin(), target.end())));
  }

  std::uint64_t trailer_size(ByteView tail) const override {
    const VariantInfo* info = variant_of(tail);
    if (info == nullptr || tail.size() < info->header_size) return 0;
    Header header = read_header(tail, 0, *info);
    std::uint64_t size = info->header_size + header.namesize;
    size += padding_to(size, info->alignment) + header.filesize;
    return std::min<std::uint64_t>(size + padding_to(header.filesize, info->alignment), tail.size());
  }

 private:
  static ContentPtr empty() { return make_content(make_memory_source({})); }

  void learn(ByteView headers) {
    if (const VariantInfo* info = variant_of(headers)) info_ = info;
    lower_case_ = has_small_letters(headers.first(std::min(info_->header_size, headers.size())));
  }

  Bytes with_name(Header header, std::string_view name) const {
    header.namesize = name.size() + 1;
    Bytes out = header_bytes(header, *info_, lower_case_);
    out.insert(out.end(), name.begin(), name.end());
    out.push_back(0);
    out.resize(out.size() + static_cast<std::size_t>(padding_to(out.size(), info_->alignment)));
    return out;
  }

  const VariantInfo* info_ = &info_of(Variant::newc);
  bool lower_case_ = false;
  std::uint64_t made_ = 0;
};

}  // namespace

std::unique_ptr<SequenceEditor> make_editor() {
  return std::make_unique<CpioEditor>();
}

}  // namespace operculum::cpio
