// The Amiga's file systems, OFS and FFS, after the "AmigaDOS Technical Reference Manual" and the structures
// that the Linux kernel publishes (fs/affs/amigaffs.h). All numbers are big-endian.
//
// Everything is found from the root block in the middle of the volume. Root and folders are hash tables of
// headers: names with the same hash are a chain. A file's header has the numbers of its first blocks, from
// the end of its table on, and leads to further blocks of numbers. Blocks of files are bare in FFS; in OFS
// each has a head of 24 bytes. The last 200 bytes of a header have their places from its end, whatever the
// size of blocks; the sum of all words of a header is 0.
#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/checksum.h"
#include "base/structure.h"
#include "base/sum_text.h"
#include "base/text.h"
#include "container/probe_reader.h"
#include "format/filesystem/file_tree.h"
#include "format/filesystem/formats.h"
#include "format/filesystem/indirect_blocks.h"
#include "io/cached_source.h"
#include "io/spool.h"

namespace operculum {
namespace {

constexpr std::uint32_t kHeader = 2, kList = 16;  // T_SHORT, T_LIST
constexpr std::size_t kTableAt = 24, kWord = 4;
constexpr std::uint64_t kReserved = 2;  ///< blocks in front of the first one that is given away
constexpr std::string_view kMark = "DOS";

enum SecondType : std::uint32_t {
  root_block = 1,
  folder_block = 2,
  soft_link_block = 3,
  link_to_folder_block = 4,
  link_to_file_block = 0xFFFFFFFC,
  file_header_block = 0xFFFFFFFD,
};

struct Head {
  std::uint32_t type = 0, own_key = 0, block_count = 0;
  static constexpr auto layout = big_endian(field("ptype", &Head::type), field("key", &Head::own_key),
                                            field("block_count", &Head::block_count));
};

/// The last bytes of a header: of a file, a folder, a link, or the root, which has only some of them.
struct Tail {
  std::uint16_t uid = 0, gid = 0;
  std::uint32_t protect = 0, size = 0;
  std::array<Byte, 80> comment{};  ///< behind its length, as the name is
  std::uint32_t days = 0, minutes = 0, ticks = 0;
  std::array<Byte, 32> name{};
  std::uint32_t original = 0, link_chain = 0, created_days = 0, created_minutes = 0, created_ticks = 0,
                hash_chain = 0, extension = 0, second_type = 0;
  static constexpr std::size_t size_in_block = 200;
  static constexpr auto layout = big_endian(
      field("uid", &Tail::uid), field("gid", &Tail::gid), from_byte<8>(), field("protect", &Tail::protect),
      field("size", &Tail::size), field("comment", &Tail::comment), from_byte<108>(),
      field("change.days", &Tail::days), field("change.mins", &Tail::minutes),
      field("change.ticks", &Tail::ticks), field("name", &Tail::name), from_byte<156>(),
      field("original", &Tail::original), field("link_chain", &Tail::link_chain), from_byte<184>(),
      field("hash_chain", &Tail::hash_chain), from_byte<192>(), field("extension", &Tail::extension),
      field("stype", &Tail::second_type));
};

/// Of the root alone.
struct RootTail {
  std::uint32_t days = 0, minutes = 0, ticks = 0;
  static constexpr auto layout =
      big_endian(from_byte<172>(), field("disk_create.days", &RootTail::days),
                 field("disk_create.mins", &RootTail::minutes), field("disk_create.ticks", &RootTail::ticks));
};

/// Days since 1978, minutes and fiftieths of a second by the machine's own clock.
Timestamp time_of(std::uint32_t days, std::uint32_t minutes, std::uint32_t ticks) {
  constexpr std::int64_t kEpoch = 252'460'800, kDay = 86'400, kMinute = 60;
  constexpr std::uint32_t kTicks = 50, kNanoseconds = 1'000'000'000 / kTicks;
  if (days == 0 && minutes == 0 && ticks == 0) return {};
  Timestamp out =
      from_unix(kEpoch + days * kDay + minutes * kMinute + ticks / kTicks, ticks % kTicks * kNanoseconds);
  out.floating = true;
  return out;
}

/// A text behind its length; its characters are those of ISO 8859-1.
std::string text_of(ByteView field) {
  std::size_t size = std::min<std::size_t>(field[0], field.size() - 1);
  return to_utf8(as_text(field.subspan(1, size)), "ISO-8859-1").value_or("");
}

std::uint32_t total_of(ByteView block) {
  std::uint32_t sum = 0;
  for (std::size_t at = 0; at + kWord <= block.size(); at += kWord)
    sum += static_cast<std::uint32_t>(load_number(block.data() + at, kWord, std::endian::big));
  return sum;
}

bool sum_is_right(ByteView block) {
  return sum_fits(total_of(block), 0);
}

Tail tail_of(ByteView block) {
  return read_structure<Tail>(block.data() + block.size() - Tail::size_in_block);
}

bool is_root(ByteView block) {
  return read_structure<Head>(block.data()).type == kHeader && tail_of(block).second_type == root_block &&
         sum_is_right(block);
}

/// Where the root is, and how large blocks are; both are stored nowhere.
struct Shape {
  std::uint64_t block = 0, blocks = 0, root = 0;
};
template <typename Read>
std::optional<Shape> find_root(std::uint64_t size, Read read) {
  for (std::uint64_t block : {512, 1024, 2048, 4096}) {
    std::uint64_t blocks = size / block;
    for (std::uint64_t less : {0, 1}) {
      if (blocks <= kReserved + less) continue;
      Shape shape{block, blocks, (kReserved + blocks - less - 1) / 2};
      Bytes raw = read(shape.root * block, block);
      if (raw.size() == block && is_root(raw)) return shape;
    }
  }
  return std::nullopt;
}

/// Of an image that is cut short, or longer than its volume: looked for from the front on.
template <typename Read>
std::optional<Shape> search_root(std::uint64_t size, Read read) {
  constexpr std::uint64_t kFurthest = 64 << 20, kWindow = 256 << 10, kLargest = 4096;
  for (std::uint64_t at = 0; at < std::min(size, kFurthest); at += kWindow - kLargest) {
    Bytes window = read(at, kWindow);
    for (std::uint64_t block = 512; block <= kLargest; block *= 2) {
      for (std::uint64_t within = (block - at % block) % block; within + block <= window.size();
           within += block) {
        std::uint64_t root = (at + within) / block;
        if (is_root(ByteView(window).subspan(within, block))) return Shape{block, 2 * root, root};
      }
    }
  }
  return std::nullopt;
}

template <typename Read>
std::optional<Shape> find_shape(std::uint64_t size, Read read) {
  auto found = find_root(size, read);
  return found ? found : search_root(size, read);
}

class AmigaContainer final : public FileTree {
 public:
  AmigaContainer(SourcePtr image, OpenContext& context)
      : FileTree(context.limits), image_(std::move(image)), meta_(make_cached(image_)) {
    flavour_ = read_exactly(*meta_, 0, kMark.size() + 1, "Amiga boot block").back();
    auto shape = find_shape(image_->size(), [this](std::uint64_t at, std::size_t count) {
      return read_up_to(*meta_, at, count);
    });
    if (!shape) throw Malformed("Amiga file system: there is no root block; the image may be cut short");
    shape_ = *shape;
    std::uint64_t least = shape_.blocks * shape_.block;
    compare_sizes(*this, image_->size(), std::clamp(image_->size(), least, least + shape_.block));
    constexpr Byte kLongNames = 6;
    if (flavour_ >= kLongNames) throw Unsupported("Amiga file systems with long names");
  }

  Facts facts() override {
    Bytes raw = read_exactly(*meta_, shape_.root * shape_.block, shape_.block, "Amiga root block");
    auto own = read_structure<RootTail>(raw.data() + raw.size() - Tail::size_in_block);
    Facts out = {{"label", escape(text_of(tail_of(raw).name))},
                 {"version", flavour_name()},
                 {"capacity", size_fact(shape_.blocks * shape_.block)},
                 {"block", fmt::format("{} bytes", shape_.block)}};
    if (Timestamp made = time_of(own.days, own.minutes, own.ticks); made.known())
      out.emplace_back("made", to_text(made));
    return out;
  }

 protected:
  NodeRef root() override { return {shape_.root}; }
  bool same_name(std::string_view stored, std::string_view wanted) const override {
    return to_lower(stored) == to_lower(wanted);
  }

  void list(NodeRef folder, Detail, const TreeSink& sink) override {
    Bytes raw = block_at(folder.a, "folder");
    std::uint32_t kind = tail_of(raw).second_type;
    if (read_structure<Head>(raw.data()).type != kHeader || (kind != folder_block && kind != root_block))
      throw Malformed(fmt::format("block {} is no folder", folder.a));
    std::set<std::uint64_t> seen;
    std::string wrong;
    for (std::uint64_t first : table_of(raw)) {
      try {
        list_chain(first, seen, sink);
      } catch (const Malformed& error) {  // costs no other chain
        if (wrong.empty()) wrong = error.what();
      }
    }
    if (!wrong.empty()) throw Malformed(wrong);
  }

  ContentPtr open(const Entry&, NodeRef ref) override {
    Bytes raw = block_at(ref.a, "file");
    Tail tail = tail_of(raw);
    if (tail.second_type != file_header_block) throw Malformed(fmt::format("block {} is no file", ref.a));
    return make_content(make_extent_source(image_, extents_of(std::move(raw), tail.size), tail.size));
  }

 private:
  bool has_heads() const { return (flavour_ & 1) == 0; }  // of OFS

  std::string flavour_name() const {
    constexpr std::string_view kMore[] = {"", ", international", ", with folder caches"};
    return fmt::format("{}{}", has_heads() ? "OFS" : "FFS", kMore[std::min<std::size_t>(flavour_ / 2, 2)]);
  }

  std::uint64_t place(std::uint64_t key) const {
    if (key < kReserved || key >= shape_.blocks)
      throw Malformed(fmt::format("block {} is not one of {} to {}", key, kReserved, shape_.blocks - 1));
    return key * shape_.block;
  }

  Bytes block_at(std::uint64_t key, std::string_view what) const {
    Bytes raw = read_exactly(*meta_, place(key), shape_.block, "Amiga header");
    if (!sum_is_right(raw))
      throw Malformed(
          fmt::format("{} in block {} does not fit its checksum{}", what, key, told_total(total_of(raw))));
    return raw;
  }

  std::vector<std::uint64_t> table_of(ByteView block) const {
    return pointers_in(block.subspan(kTableAt, shape_.block - kTableAt - Tail::size_in_block), kWord,
                       std::endian::big);
  }

  void list_chain(std::uint64_t first, std::set<std::uint64_t>& seen, const TreeSink& sink) const {
    for (std::uint64_t key = first; key != 0;) {
      if (!seen.insert(key).second)
        throw Malformed(fmt::format("a chain of names leads in a circle at block {}", key));
      Bytes header = block_at(key, "header");
      Tail tail = tail_of(header);
      add(key, header, tail, sink);
      key = tail.hash_chain;
    }
  }

  void add(std::uint64_t key, const Bytes& header, const Tail& tail, const TreeSink& sink) const {
    TreeItem item;
    Entry& entry = item.entry;
    entry.path = text_of(tail.name);
    item.ref = {key};
    entry.kind = tail.second_type == folder_block || tail.second_type == link_to_folder_block
                     ? EntryKind::folder
                 : tail.second_type == soft_link_block ? EntryKind::symbolic_link
                                                       : EntryKind::file;
    entry.mode = mode_of(tail.protect);
    entry.modified = time_of(tail.days, tail.minutes, tail.ticks);
    EntryExtra& extra = entry.extras();
    extra.user_id = tail.uid;
    extra.group_id = tail.gid;
    extra.comment = text_of(tail.comment);
    switch (tail.second_type) {
      case file_header_block:
        entry.size = entry.stored_size = tail.size;
        if (tail.link_chain != 0) item.link_id = key;
        break;
      case link_to_file_block:
        item.ref = {tail.original};
        item.link_id = tail.original;
        entry.size = entry.stored_size = tail_of(block_at(tail.original, "file")).size;
        break;
      case link_to_folder_block:
        item.ref = {tail.original};
        break;
      case soft_link_block:
        extra.link_target = until_zero(
            as_text(ByteView(header).subspan(kTableAt, shape_.block - kTableAt - Tail::size_in_block)));
        break;
      default:
        if (tail.second_type != folder_block) entry.flags |= Entry::damaged;
        break;
    }
    sink(std::move(item));
  }

  /// A bit that is set forbids the owner, and allows the others.
  static std::uint32_t mode_of(std::uint32_t protect) {
    struct Bit {
      std::uint32_t protect, mode;
    };
    constexpr Bit kOwner[] = {{8, 0400}, {4, 0200}, {2, 0100}};
    constexpr Bit kOthers[] = {{0x800, 040}, {0x400, 020}, {0x200, 010},
                               {0x8000, 04}, {0x4000, 02}, {0x2000, 01}};
    std::uint32_t mode = 0;
    for (const Bit& one : kOwner)
      if ((protect & one.protect) == 0) mode |= one.mode;
    for (const Bit& one : kOthers)
      if ((protect & one.protect) != 0) mode |= one.mode;
    return mode;
  }

  std::vector<Extent> extents_of(Bytes header, std::uint64_t size) const {
    std::uint64_t head = has_heads() ? kTableAt : 0, room = shape_.block - head, done = 0;
    std::set<std::uint64_t> seen;
    std::vector<Extent> out;
    while (done < size) {
      std::vector<std::uint64_t> table = table_of(header);
      std::size_t count = read_structure<Head>(header.data()).block_count;
      if (count > table.size())
        throw Malformed(fmt::format("a file's header: expected block_count to be at most {}, found {}",
                                    table.size(), count));
      for (std::size_t i = 0; i < count && done < size; ++i) {
        std::uint64_t length = std::min(room, size - done);
        add_extent(out, {done, place(table[table.size() - 1 - i]) + head, length});
        done += length;
      }
      std::uint64_t next = tail_of(header).extension;
      if (done >= size) break;
      if (next == 0 || !seen.insert(next).second)
        throw Malformed(fmt::format("a file's blocks: expected {} bytes, found {}", size, done));
      header = block_at(next, "list of blocks");
      if (read_structure<Head>(header.data()).type != kList)
        throw Malformed(fmt::format("block {} is no list of a file's blocks", next));
    }
    return out;
  }

  SourcePtr image_, meta_;
  Byte flavour_ = 0;
  Shape shape_;
};

Match recognise_affs(Probe& probe) {
  constexpr Byte kFlavours = 8;
  ByteView head = probe.head(kMark.size() + 1);
  if (head.size() <= kMark.size() || !starts_with(head, kMark) || head.back() >= kFlavours || !probe.size())
    return Match::none;
  if (find_shape(*probe.size(), reader_of(probe))) return Match::front;
  probe.add_almost("an Amiga file system, but there is no root block");
  return Match::none;
}

ContainerPtr open_affs(const Input& input, OpenContext& context) {
  return std::make_shared<AmigaContainer>(random_access(*input.content, context.spool), context);
}

}  // namespace

Format affs_format() {
  return {
      .id = "affs",
      .name = "Amiga file system",
      .family = "file system",
      .specification = "AmigaDOS Technical Reference Manual; Linux kernel, fs/affs/amigaffs.h",
      .reads =
          "OFS and FFS, international, with folder caches; blocks of 512 to 4096 bytes, hard and soft links, "
          "protection bits, owners, comments",
      .lacks = "long names (DOS\\6, DOS\\7)",
      .suffixes = {".adf", ".hdf"},
      .recognise = recognise_affs,
      .open = open_affs};
}

}  // namespace operculum
