// Described packs of many forms (tables that are packed or under a key, contents packed as one or in blocks,
// numbers of any width), written again.
#include <gtest/gtest.h>

#include <random>

#include "base/checksum.h"
#include "codec/codec.h"
#include "container/rewrite.h"
#include "support/language_case.h"
#include "support/new_file.h"
#include "support/sentence.h"

namespace operculum::test {
namespace {

using Contents = std::map<std::string, std::string>;

/// A made-up form of pack: how it is described, and how one of some contents is written.
struct Form {
  const char* name;
  std::string layout;
  Bytes (*write)(const Contents& contents);
};

void PrintTo(const Form& form, std::ostream* out) {
  *out << form.name;
}

constexpr const char* kRow = R"(
record Row {
  name   text[24] padded 0
  at     u32
  stored u32
  size   u32
  check  u32
}
)";
constexpr const char* kEntry = R"(
entry for row in rows {
  path  = row.name
  data  = bytes(row.at, row.stored) | when row.stored < row.size: zlib
  size  = row.size
  crc32 = row.check
}
)";

struct Laid {
  ByteWriter table, data;
};

/// A table of rows and the data that it leads to, which begins at `from`.
Laid laid_out(const Contents& contents, std::uint64_t from) {
  Laid out;
  for (const auto& [path, text] : contents) {
    Bytes packed = encode("zlib", as_bytes(text));
    Bytes stored = packed.size() < text.size() ? packed : to_bytes(text);
    std::string name = path;
    name.resize(24);
    out.table.text(name).u32(from + out.data.size()).u32(stored.size()).u32(text.size());
    out.table.u32(crc32(0, as_bytes(text)));
    out.data.bytes(stored);
  }
  return out;
}

Bytes under_key(Bytes bytes, std::string_view key) {
  for (std::size_t i = 0; i < bytes.size(); ++i) bytes[i] ^= static_cast<Byte>(key[i % key.size()]);
  return bytes;
}

/// The table is packed and lies behind the data; its sizes are told, packed and plain.
Bytes write_behind(const Contents& contents) {
  Laid laid = laid_out(contents, 16);
  Bytes packed = encode("zlib", laid.table.view(), {.level = 9});
  ByteWriter out;
  out.text("HULL").u32(16 + laid.data.size()).u32(packed.size()).u32(laid.table.size());
  out.bytes(laid.data.view()).bytes(packed);
  return Bytes(out.view().begin(), out.view().end());
}
const std::string kBehind = std::string(R"(
record Head {
  magic  bytes "HULL"
  at     u32
  packed u32
  full   u32
}
)") + kRow + R"(
head  = Head at 0
table = bytes(head.at, head.packed) | zlib
require length(table) == head.full
rows  = Row[length(table) / 40] at 0 in table
)" + kEntry;

/// In front of the data, with a number of rows and a checksum of what is packed; `key` lies over it, where
/// there is one.
Bytes write_in_front(const Contents& contents, std::string_view key) {
  Bytes packed;
  for (std::size_t before = 1; before != packed.size();) {  // its length is told by itself
    before = packed.size();
    packed = encode("zlib", laid_out(contents, 20 + before).table.view());
    if (!key.empty()) packed = under_key(packed, key);
  }
  Laid laid = laid_out(contents, 20 + packed.size());
  ByteWriter out;
  out.text("HULL").u32(contents.size()).u32(packed.size()).u32(laid.table.size()).u32(crc32(0, packed));
  out.bytes(packed).bytes(laid.data.view());
  return Bytes(out.view().begin(), out.view().end());
}
Bytes write_front(const Contents& contents) {
  return write_in_front(contents, "");
}
Bytes write_keyed(const Contents& contents) {
  return write_in_front(contents, "whelk");
}
std::string in_front(const std::string& steps) {
  return std::string(R"(
record Head {
  magic  bytes "HULL"
  count  u32
  packed u32
  full   u32
  check  u32
}
)") + kRow +
         R"(
head  = Head at 0
check crc32 of bytes(20, head.packed) = head.check
table = bytes(20, head.packed) | )" +
         steps + R"(
rows  = Row[head.count] at 0 in table
)" + kEntry;
}

/// Rows of any length under a key, right in front of the data.
Bytes write_xored(const Contents& contents) {
  std::size_t size = 0;
  for (const auto& [path, text] : contents) size += path.size() + 9;
  ByteWriter table, data;
  for (const auto& [path, text] : contents) {
    table.u8(path.size()).text(path).u32(12 + size + data.size()).u32(text.size());
    data.text(text);
  }
  ByteWriter out;
  out.text("HULL").u32(contents.size()).u32(size).bytes(under_key(table.take(), "crab")).bytes(data.view());
  return out.take();
}
const std::string kXored = R"(
record Head {
  magic bytes "HULL"
  count u32
  size  u32
}
record Row {
  name text sized u8
  at   u32
  size u32
}
head  = Head at 0
table = bytes(12, head.size) | xor("crab")
rows  = Row[head.count] at 0 in table
entry for row in rows {
  path = row.name
  data = bytes(row.at, row.size)
}
)";

/// All contents are packed as one, behind a plain table.
Bytes write_solid(const Contents& contents) {
  ByteWriter table, data;
  for (const auto& [path, text] : contents) {
    std::string name = path;
    name.resize(24);
    table.text(name).u32(data.size()).u32(text.size());
    data.text(text);
  }
  Bytes packed = encode("zlib", data.view());
  ByteWriter out;
  out.text("HULL").u32(contents.size()).u32(packed.size()).u32(data.size()).bytes(table.view()).bytes(packed);
  return out.take();
}
const std::string kSolid = R"(
record Head {
  magic  bytes "HULL"
  count  u32
  packed u32
  full   u32
}
record Row {
  name text[24] padded 0
  at   u32
  size u32
}
head = Head at 0
rows = Row[head.count] at 16
all  = bytes(end_of(rows), head.packed) | zlib
entry for row in rows {
  path = row.name
  data = part(all, row.at, row.size)
}
)";

/// A packed head leads to a packed table within the same packed part.
Bytes write_nested(const Contents& contents) {
  Laid laid = laid_out(contents, 8);
  Bytes table = encode("zlib", laid.table.view());
  ByteWriter inner;
  inner.text("DECK").u32(table.size()).bytes(table);
  Bytes outer = encode("zstd", inner.view());
  ByteWriter out;
  out.text("HULL").u32(8 + laid.data.size()).bytes(laid.data.view()).bytes(outer);
  return out.take();
}
const std::string kNested = std::string(R"(
record Head {
  magic bytes "HULL"
  at    u32
}
record Deck {
  magic  bytes "DECK"
  packed u32
}
)") + kRow + R"(
head  = Head at 0
deck  = bytes(head.at, file_size - head.at) | zstd
inner = Deck at 0 in deck
table = part(deck, 8, inner.packed) | zlib
rows  = Row[length(table) / 40] at 0 in table
)" + kEntry;

/// Contents are packed in blocks of 512 bytes, each behind a table of its blocks' sizes.
Bytes write_blocks(const Contents& contents) {
  constexpr std::size_t kBlock = 512;
  ByteWriter table, data;
  for (const auto& [path, text] : contents) {
    std::string name = path;
    name.resize(24);
    table.text(name).u32(12 + contents.size() * 32 + data.size()).u32(text.size());
    ByteWriter sizes, blocks;
    for (std::size_t at = 0; at < text.size(); at += kBlock) {
      std::string block = text.substr(at, kBlock);
      Bytes packed = encode("zlib", as_bytes(block));
      Bytes stored = packed.size() < block.size() ? packed : to_bytes(block);
      sizes.u32(stored.size());
      blocks.bytes(stored);
    }
    data.bytes(sizes.view()).bytes(blocks.view());
  }
  ByteWriter out;
  out.text("HULL").u32(contents.size()).u32(kBlock).bytes(table.view()).bytes(data.view());
  return out.take();
}
const std::string kBlocks = R"(
record Head {
  magic bytes "HULL"
  count u32
  block u32
}
record Row {
  name text[24] padded 0
  at   u32
  size u32
}
head = Head at 0
rows = Row[head.count] at 12
define sizes_of(row: Row) = u32[(row.size + head.block - 1) / head.block] at row.at
entry for row in rows {
  path = row.name
  data = join(piece number i in cut(rest(row.at + 4 * length(sizes_of(row))), sizes_of(row)):
              piece | when length(piece) < min(head.block, row.size - i * head.block): zlib)
  size = row.size
}
)";

/// A list in words, and data whose lengths are told in as few bytes as they need.
Bytes write_words(const Contents& contents) {
  std::string list, data;
  for (const auto& [path, text] : contents) {
    list += path + " " + std::to_string(data.size()) + "\n";
    std::size_t left = text.size();
    for (; left > 0x7f; left >>= 7) data += static_cast<char>((left & 0x7f) | 0x80);
    data += static_cast<char>(left);
    data += text;
  }
  std::string all = "HULL " + std::to_string(contents.size()) + "\n" + list + data;
  return to_bytes(all);
}
const std::string kWords = R"(
record Head {
  magic bytes "HULL "
  count decimal until "\n"
}
record Row {
  name text until " "
  at   decimal until "\n"
}
record Data {
  size leb128
  text bytes[size]
}
head = Head at 0
rows = Row[head.count] at end_of(head)
entry for row in rows {
  let item = Data at end_of(rows) + row.at
  path = row.name
  data = item.text
}
)";

/// Places are counted from the end of the table.
Bytes write_counted(const Contents& contents) {
  Laid laid = laid_out(contents, 0);
  ByteWriter out;
  out.text("HULL").u32(contents.size()).bytes(laid.table.view()).bytes(laid.data.view());
  return out.take();
}
const std::string kCounted = std::string(R"(
record Head {
  magic bytes "HULL"
  count u32
}
)") + kRow + R"(
head = Head at 0
rows = Row[head.count] at 8
entry for row in rows {
  path  = row.name
  data  = bytes(end_of(rows) + row.at, row.stored) | when row.stored < row.size: zlib
  size  = row.size
  crc32 = row.check
}
)";

const Form kForms[] = {{"behind", kBehind, write_behind},
                       {"front", in_front("zlib"), write_front},
                       {"keyed", in_front("xor(\"whelk\") | zlib"), write_keyed},
                       {"xored", kXored, write_xored},
                       {"solid", kSolid, write_solid},
                       {"nested", kNested, write_nested},
                       {"blocks", kBlocks, write_blocks},
                       {"words", kWords, write_words},
                       {"counted", kCounted, write_counted}};

Contents sample() {
  Contents out;
  for (int i = 0; i < 200; ++i) out["caves/one.map"] += "one " + std::to_string(i * 7919);
  out["caves/two.map"] = std::string(900, '2');
  out["crab.ppm"] = std::string(as_text(Bytes{'P', '6', 10, 200, 130, 7, 99, 1, 2, 250}));
  out["tide.lua"] = "print(\"low\")\n";
  return out;
}

class RewriteForms : public testing::TestWithParam<Form> {
 protected:
  /// Makes the changes of a sample, by what `change` does to them, and expects `wanted` in the result.
  void expect(const Contents& wanted, const std::function<void(Changes&, std::size_t two)>& change) {
    Described before(GetParam().layout, GetParam().write(sample()));
    ASSERT_EQ(before.error(), "");
    std::size_t two = 0;
    while (before.entries()[two].path != "caves/two.map") ++two;
    Changes changes;
    change(changes, two);
    SourcePtr made;
    ASSERT_EQ(sentence([&] { made = before.rewritten(changes); }), "");
    Described after(GetParam().layout, read_up_to(*made, 0, made->size()));
    ASSERT_EQ(after.error(), "");
    EXPECT_EQ(after.findings(), "");
    Contents found;
    for (const Entry& entry : after.entries()) found[entry.path] = after.content(entry.path);
    EXPECT_EQ(found, wanted);
  }
};

INSTANTIATE_TEST_SUITE_P(All, RewriteForms, testing::ValuesIn(kForms),
                         [](const auto& info) { return info.param.name; });

TEST_P(RewriteForms, ContentsOfAnyLengthAreSet) {
  for (const std::string& text :
       {std::string("x"), std::string(900, 'z'), std::string(2100, 'y'), kNested + kBehind + kXored}) {
    Contents wanted = sample();
    wanted["caves/two.map"] = text;
    expect(wanted, [&](Changes& changes, std::size_t two) {
      changes.replaced[two] = new_file("caves/two.map", text);
    });
  }
}

TEST_P(RewriteForms, EntriesGo) {
  Contents wanted = sample();
  wanted.erase("caves/two.map");
  expect(wanted, [](Changes& changes, std::size_t two) { changes.removed.insert(two); });
}

TEST_P(RewriteForms, EntriesGetOtherNames) {
  for (const std::string name : {"caves/6.map", "caves/seventeen.map"}) {
    Contents wanted = sample();
    wanted[name] = wanted["caves/two.map"];
    wanted.erase("caves/two.map");
    expect(wanted, [&](Changes& changes, std::size_t two) { changes.renamed[two] = name; });
  }
}

TEST_P(RewriteForms, EntriesCome) {
  Contents wanted = sample();
  wanted["caves/whelk.map"] = "a new map of the whelk's cave";
  expect(wanted, [&](Changes& changes, std::size_t) {
    changes.added.push_back(new_file("caves/whelk.map", wanted["caves/whelk.map"]));
  });
}

TEST_P(RewriteForms, DamagedOnesAreRefusedOrWritten) {
  std::mt19937 chance(7);
  for (int round = 0; round < 60; ++round) {
    Bytes bytes = GetParam().write(sample());
    for (int flips = 0; flips < 2; ++flips)
      bytes[chance() % bytes.size()] ^= static_cast<Byte>(1u << (chance() % 8));
    Described before(GetParam().layout, bytes);
    if (!before.error().empty() || before.entries().empty()) continue;
    Changes changes;
    changes.replaced[chance() % before.entries().size()] = new_file("", "a new text\n");
    SourcePtr made;
    if (!sentence([&] { made = before.rewritten(changes); }).empty()) continue;
    Described after(GetParam().layout, read_up_to(*made, 0, made->size()));
    EXPECT_EQ(after.error(), "") << "round " << round;
  }
}

}  // namespace
}  // namespace operculum::test
