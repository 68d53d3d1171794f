// dm-verity hash trees: those of the maker's own tool, where it is there, and one written here.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include "base/text.h"
#include "format/volume/formats.h"
#include "support/has.h"
#include "support/sentence.h"
#include "support/system_tools.h"
#include "support/verity_writer.h"

namespace operculum {
namespace {

using namespace test;

Held open_verified(const HashTree& made, const std::string& root) {
  std::optional<Bytes> wanted;
  if (!root.empty()) wanted = from_hex(root);
  return open_bytes(made.data, "hall.img", As::file, [&](OpenContext& context) {
    context.preferred.push_back(told_verity_format(make_memory_source(made.tree), wanted));
  });
}

TEST(Verity, ComparesEveryBlockUpToTheRoot) {
  for (unsigned type : {0u, 1u}) {
    for (std::size_t blocks : {2u, 16u, 17u, 300u}) {
      HashTree made = make_hash_tree(type, blocks);
      Held held = open_verified(made, made.root);
      ASSERT_EQ(held.format(), "verity");
      EXPECT_TRUE(text_of(*held, 0) == as_text(made.data)) << type << " " << blocks;
      EXPECT_EQ(fact(*held, "root hash"), made.root);
      EXPECT_TRUE(held->entries()[0].is(Entry::has_sum));
      EXPECT_TRUE(held->findings().empty());
    }
  }
}

TEST(Verity, TellsWhichBlockDoesNotFit) {
  HashTree made = make_hash_tree(1, 300);
  made.data[123 * 512 + 7] ^= 1;
  Held held = open_verified(made, made.root);
  EXPECT_TRUE(has(sentence([&] { text_of(*held, 0); }), "block 123 at offset 62976 does not fit"));
  Bytes other = read_up_to(*held->content(0)->source(), 124 * 512, 512);  // costs no other
  EXPECT_EQ(other.size(), 512u);
  HashTree cut = make_hash_tree(1, 300);
  cut.data.resize(200 * 512);
  Held shorter = open_verified(cut, cut.root);
  EXPECT_TRUE(has(sentence([&] { text_of(*shorter, 0); }), "cut short: expected 153600 bytes, found 102400"));
}

TEST(Verity, ADamagedTreeIsNoDamagedData) {
  HashTree made = make_hash_tree(1, 300);
  made.tree[made.tree.size() - 100] ^= 1;  // in the lowest level, of the last blocks
  Held held = open_verified(made, made.root);
  EXPECT_TRUE(has(sentence([&] { text_of(*held, 0); }), "the hash tree's block at offset"));
  EXPECT_EQ(read_up_to(*held->content(0)->source(), 0, 512).size(), 512u);
}

TEST(Verity, TheRootIsThatWhichIsTrusted) {
  HashTree made = make_hash_tree(1, 17);
  std::string other = made.root;
  other[0] = other[0] == '0' ? '1' : '0';
  EXPECT_TRUE(has(sentence([&] { open_verified(made, other); }), "expected the root hash " + other));
  EXPECT_TRUE(has_finding(*open_verified(made, ""), "compared with nothing: name the one that you trust"));
}

TEST(Verity, ATreeAloneIsDescribed) {
  HashTree made = make_hash_tree(1, 17);
  Held held = open_bytes(made.tree, "hall.hashes");
  ASSERT_EQ(held.format(), "verity");
  EXPECT_EQ(fact(*held, "blocks"), "17 of 512 bytes");
  EXPECT_EQ(fact(*held, "root hash"), made.root);
  EXPECT_TRUE(has(sentence([&] { text_of(*held, 0); }), "name this one with --hash-tree"));
}

TEST(Verity, RefusesWhatCannotBe) {
  auto changed = [](std::size_t at, Byte to) {
    Bytes tree = make_hash_tree(1, 17).tree;
    tree[at] = to;
    return sentence([&] { open_bytes(tree, "hall.hashes"); });
  };
  EXPECT_TRUE(has(changed(8, 9), "dm-verity of version 9"));
  EXPECT_TRUE(has(changed(64, 1), "data_block_size (at 64) to be a power of two"));
  EXPECT_TRUE(has(changed(68, 1), "hash_block_size (at 68) to be a power of two"));
  EXPECT_TRUE(has(changed(79, 0xFF), "data_blocks (at 72) to be 1 or more"));
  EXPECT_TRUE(has(changed(81, 9), "salt_size (at 80) to be at most 256"));
  EXPECT_TRUE(has(changed(32, 'x'), "the hash \"xha256\""));
}

TEST(Verity, TreesOfItsOwnTool) {
  NEEDS("veritysetup");
  TempFolder folder;
  Bytes data = noise(245 * 4096, 3);
  folder.write("hall.img", as_text(data));
  for (const char* where : {"apart", "behind"}) {
    bool behind = std::string(where) == "behind";
    std::string tree = behind ? "hall.img" : "hall.hashes";
    std::vector<std::string> arguments = {"format", "hall.img", tree};
    if (behind) arguments.push_back(fmt::format("--hash-offset={}", data.size()));
    Ran made = tool("veritysetup", arguments, folder.path());
    ASSERT_EQ(made.exit_code, 0) << made.err;
    std::string root = made.out.substr(made.out.find("Root hash:") + 10);
    root = std::string(trim(root.substr(0, root.find('\n'))));
    Ran ran =
        test::operculum({"verify", "hall.img", "--hash-tree", tree, "--root-hash", root}, folder.path());
    EXPECT_EQ(ran.exit_code, 0) << where << ran.out << ran.err;
    std::string raw = folder.read("hall.img");
    raw[4096 * 17] ^= 1;
    folder.write("hall.img", raw);
    Ran wrong =
        test::operculum({"verify", "hall.img", "--hash-tree", tree, "--root-hash", root}, folder.path());
    EXPECT_EQ(wrong.exit_code, 1) << where;
    EXPECT_TRUE(has(wrong.out + wrong.err, "block 17 at offset 69632")) << wrong.out << wrong.err;
    raw[4096 * 17] ^= 1;
    folder.write("hall.img", raw);
  }
  EXPECT_TRUE(
      has(test::operculum({"list", "hall.img", "--root-hash", "00"}, folder.path()).err, "--hash-tree"));
  EXPECT_TRUE(
      has(test::operculum({"list", "hall.img", "--hash-tree", "hall.img", "--root-hash", "0g"}, folder.path())
              .err,
          "expected hexadecimal digits"));
}

}  // namespace
}  // namespace operculum
