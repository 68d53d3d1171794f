// cpio: the portable ASCII form of POSIX.1-1988 ("odc"), the SVR4 forms without and with checksums ("newc",
// "crc"; the form of the Linux initramfs, Documentation/driver-api/early-userspace/buffer-format), and the
// old binary form in both byte orders. Several archives may follow each other, with zero bytes between.
#include <fmt/format.h>
#include <sys/sysmacros.h>

#include <algorithm>
#include <deque>
#include <map>
#include <tuple>

#include "base/cursor.h"
#include "base/error.h"
#include "base/text.h"
#include "container/sequence.h"
#include "format/archive/cpio_editor.h"
#include "format/archive/cpio_header.h"
#include "format/archive/formats.h"

namespace operculum {
namespace {

using namespace cpio;

class CpioParser final : public SequenceParser {
 public:
  explicit CpioParser(std::string names_in) : names_in_(std::move(names_in)) {}

  bool next(InputBuffer& input, SequenceItem& item) override {
    for (;;) {
      if (!ready_.empty()) {
        item = std::move(ready_.front());
        ready_.pop_front();
        return true;
      }
      if (input.view().empty()) {
        if (!ended_)
          report(Finding::Level::fault,
                 "the entry that ends a cpio archive is missing; the file is cut short");
        return false;
      }
      if (ended_ && !another_archive(input)) return false;
      std::uint64_t offset = input.consumed();
      const VariantInfo* info = variant_of(input.ensure(6));
      if (info == nullptr) {
        throw Malformed(fmt::format(
            "cpio header at offset {}: expected one of the known magics, found other bytes", offset));
      }
      Header header = read_header(input.ensure(info->header_size), offset, *info);
      input.consume(info->header_size);
      std::string name = read_name(input, header, *info, offset);
      std::uint64_t padding = padding_to(header.filesize, info->alignment);
      if (name == kTrailerName) {
        input.skip(header.filesize + padding);
        ended_ = true;
        release_waiting();
        continue;
      }
      describe(input, header, name, item);
      item.begin = offset;
      item.padding = padding;
      if (item.entry.kind == EntryKind::file && header.nlink > 1 && !join_links(header, item)) continue;
      if (info->variant == Variant::crc && item.entry.has_data())
        item.byte_sum = static_cast<std::uint32_t>(header.check);
      return true;
    }
  }

 private:
  /// Behind a trailer: zeros, then perhaps the next archive.
  bool another_archive(InputBuffer& input) {
    input.skip_zeros();
    if (input.view().empty()) return false;
    if (variant_of(input.ensure(6)) == nullptr) {
      report(Finding::Level::note,
             fmt::format("bytes that are not cpio follow the archive, from offset {}", input.consumed()));
      return false;
    }
    ended_ = false;
    report(Finding::Level::note,
           "several cpio archives lie one behind another; all are listed, the later ones win");
    return true;
  }

  std::string read_name(InputBuffer& input, const Header& header, const VariantInfo& info,
                        std::uint64_t offset) const {
    if (header.namesize == 0 || header.namesize > kLongestName) {
      throw Malformed(fmt::format("cpio header at offset {}: a name of {} bytes", offset, header.namesize));
    }
    auto length = static_cast<std::size_t>(header.namesize +
                                           padding_to(info.header_size + header.namesize, info.alignment));
    ByteView raw = input.ensure(length);
    if (raw.size() < header.namesize) {
      throw Malformed(fmt::format("cpio header at offset {}: the file is cut short within the name", offset));
    }
    std::string name(as_text(raw.first(static_cast<std::size_t>(header.namesize))));
    name.resize(std::min(name.find('\0'), name.size()));
    input.consume(std::min(length, raw.size()));
    if (names_in_.empty()) return name;
    return to_utf8(name, names_in_).value_or(name);
  }

  void describe(InputBuffer& input, const Header& header, const std::string& name, SequenceItem& item) {
    Entry& entry = item.entry;
    entry.path = clean_path(name);
    entry.kind = kind_of_mode(static_cast<std::uint32_t>(header.mode));
    entry.mode = static_cast<std::uint32_t>(header.mode & 07777);
    entry.modified = from_unix(static_cast<std::int64_t>(header.mtime));
    entry.size = entry.stored_size = header.filesize;
    entry.stored_at = input.consumed();
    EntryExtra& extra = entry.extras();
    extra.user_id = static_cast<std::uint32_t>(header.uid);
    extra.group_id = static_cast<std::uint32_t>(header.gid);
    extra.device_major = static_cast<std::uint32_t>(header.rdevmajor);
    extra.device_minor = static_cast<std::uint32_t>(header.rdevminor);
    item.packed = header.filesize;
    if (entry.kind == EntryKind::symbolic_link) read_link(input, header, item);
  }

  /// A symbolic link's target is its data.
  static void read_link(InputBuffer& input, const Header& header, SequenceItem& item) {
    if (header.filesize > kLongestName) throw Malformed("cpio link: its target is longer than any path");
    auto length = static_cast<std::size_t>(header.filesize);
    ByteView target = input.ensure(length);
    if (target.size() < length) throw Malformed("cpio link: the file is cut short within its target");
    item.entry.extras().link_target = as_text(target.first(length));
    input.consume(length);
    item.packed = 0;
  }

  using Inode = std::tuple<std::uint64_t, std::uint64_t, std::uint64_t>;

  static void make_link(Entry& entry, const std::string& target) {
    entry.kind = EntryKind::hard_link;
    entry.extras().link_target = target;
  }

  /// Files of one inode: newc and crc keep the data with the last of them, the other forms with each. The one
  /// that has data is the file; empty ones become links to it, and those met before it wait for it. False
  /// when `item` waits.
  bool join_links(const Header& header, SequenceItem& item) {
    Inode inode(header.devmajor, header.devminor, header.ino);
    auto file = files_.find(inode);
    if (header.filesize == 0 && file != files_.end()) {
      make_link(item.entry, file->second);
    } else if (header.filesize == 0) {
      item.end = item.entry.stored_at;  // it has no data
      item.padding = 0;
      waiting_[inode].push_back(std::move(item));
      item = {};
      return false;
    } else {
      files_.insert_or_assign(inode, item.entry.path);
      auto waiting = waiting_.extract(inode);
      if (waiting.empty()) return true;
      for (SequenceItem& other : waiting.mapped()) {
        make_link(other.entry, item.entry.path);
        ready_.push_back(std::move(other));
      }
    }
    return true;
  }

  /// At the end: links whose data never came are one empty file.
  void release_waiting() {
    for (auto& [inode, items] : waiting_) {
      std::string first = items.front().entry.path;
      for (std::size_t i = 1; i < items.size(); ++i) make_link(items[i].entry, first);
      std::move(items.begin(), items.end(), std::back_inserter(ready_));
    }
    waiting_.clear();
    files_.clear();
  }

  std::string names_in_;
  bool ended_ = false;
  std::map<Inode, std::string> files_;
  std::map<Inode, std::vector<SequenceItem>> waiting_;
  std::deque<SequenceItem> ready_;
};

/// Whether a mode names a kind of file: a first number that only chance made may say anything.
bool is_mode(std::uint64_t mode) {
  constexpr std::uint64_t kKinds[] = {0, 1, 2, 4, 6, 8, 9, 10, 12};  // S_IFMT, 9 is a network file of HP-UX
  return std::find(std::begin(kKinds), std::end(kKinds), mode >> 12) != std::end(kKinds);
}

Match recognise_cpio(Probe& probe) {
  const VariantInfo* info = variant_of(probe.head(6));
  if (info == nullptr) return Match::none;
  try {
    Header header = read_header(probe.head(info->header_size), 0, *info);
    constexpr std::uint64_t kLooked = 4096;  // bytes of a name
    auto length = static_cast<std::size_t>(std::min(header.namesize, kLooked));
    Bytes name = probe.at(info->header_size, length);
    if (name.size() != length || length == 0 || header.namesize > kLongestName) return Match::none;
    // Its first zero is its last byte.
    auto zero = static_cast<std::size_t>(std::find(name.begin(), name.end(), 0) - name.begin());
    bool ends_well = zero == length - 1 || (zero == length && header.namesize > kLooked);
    return ends_well && is_mode(header.mode) && header.nlink < 100'000 ? Match::front : Match::none;
  } catch (const Error&) {
    return Match::none;
  }
}

ContainerPtr open_cpio(const Input& input, OpenContext& context) {
  return make_sequence(
      input, context, [names_in = context.names_in] { return std::make_unique<CpioParser>(names_in); },
      make_editor);
}

}  // namespace

Assembly pack_cpio(const std::vector<NewEntry>& entries, const Writing& writing) {
  auto editor = make_editor();
  Assembly out;
  auto add = [&](const NewEntry& entry, std::uint64_t size) {
    std::uint64_t begin = out.size();
    out.add(editor->new_headers(entry, size, {}));
    if (ContentPtr data = editor->data_of(entry); data && size > 0)
      out.add(random_access(*data, writing.spool));
    out.add_zeros(editor->padding(out.size() - begin));
  };
  for (const NewEntry& entry : entries)
    add(entry, entry.kind == EntryKind::symbolic_link ? entry.link_target.size() : entry.size);
  NewEntry trailer;
  trailer.path = kTrailerName;
  add(trailer, 0);
  out.add_zeros((kBlock - out.size() % kBlock) % kBlock);
  return out;
}

Format cpio_format() {
  return {.id = "cpio",
          .name = "cpio archive",
          .family = "archive",
          .specification = "POSIX.1-1988 (odc), SVR4 (newc, crc), old binary",
          .reads =
              "newc, crc with checksums verified, odc, old binary in both byte orders, several archives in a "
              "row, "
              "hard and symbolic links, devices",
          .lacks = "",
          .writes = "newc, crc with its checksums, odc, old binary",
          .suffixes = {".cpio"},
          .forward = true,
          .later_replaces = true,
          .recognise = recognise_cpio,
          .open = open_cpio,
          .pack = pack_cpio,
          .keeps = {.hard_links = false}};
}

}  // namespace operculum
