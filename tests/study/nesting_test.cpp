// Folders that are records, in each way in which they can tell what lies in them.
#include <gtest/gtest.h>

#include <functional>
#include <map>

#include "support/byte_writer.h"
#include "support/studied.h"

namespace operculum::study {
namespace {

using namespace test;

constexpr std::uint32_t kNone = 0xffffffff;

/// A record of a pack, with all that any way of telling needs.
struct Node {
  std::string name;
  Bytes data;
  std::size_t parent = 0;            // itself: it lies in none
  std::uint32_t depth = 0, all = 0;  // records in it, at any depth
  std::uint32_t first = kNone, children = 0, next = kNone;
};

/// Records of folders and files; each lies behind the folder that it is in.
std::vector<Node> linked(std::vector<Node> nodes) {
  std::vector<std::uint32_t> last(nodes.size(), kNone);
  std::uint32_t last_root = kNone;
  for (std::uint32_t i = 0; i < nodes.size(); ++i) {
    bool root = nodes[i].parent == i;
    std::uint32_t& before = root ? last_root : last[nodes[i].parent];
    if (before != kNone)
      nodes[before].next = i;
    else if (!root)
      nodes[nodes[i].parent].first = i;
    before = i;
    if (root) continue;
    nodes[i].depth = nodes[nodes[i].parent].depth + 1;
    ++nodes[nodes[i].parent].children;
    for (std::size_t above = i; nodes[above].parent != above; above = nodes[above].parent)
      ++nodes[nodes[above].parent].all;
  }
  return nodes;
}

/// "pool" with "deep" in it, "mole", and files in and beside them: folder by folder, or level by level.
std::vector<Node> kiosk(bool by_level, bool one_root) {
  std::vector<File> files = exhibits(28);
  std::vector<Node> nodes;
  auto add = [&](std::string name, std::size_t parent, Bytes data = {}) {
    std::size_t number = nodes.size();
    nodes.push_back({std::move(name), std::move(data), parent == kNone ? number : parent});
    return number;
  };
  std::size_t next = 0;
  auto add_files = [&](std::size_t count, std::size_t parent) {
    for (std::size_t i = 0; i < count; ++i, ++next) add(files[next].name, parent, files[next].data);
  };
  std::size_t top = one_root ? add("", kNone) : kNone;
  if (by_level) {
    std::size_t pool = add("pool", top), mole = add("mole", top);
    add_files(6, top);
    std::size_t deep = add("deep", pool);
    add_files(8, pool);
    add_files(9, mole);
    add_files(5, deep);
  } else {
    std::size_t pool = add("pool", top);
    add_files(4, pool);
    std::size_t deep = add("deep", pool);
    add_files(8, deep);
    add_files(3, pool);
    std::size_t mole = add("mole", top);
    add_files(7, mole);
    add_files(6, top);
  }
  return linked(std::move(nodes));
}

Bytes pack(const std::vector<Node>& nodes, const std::function<void(ByteWriter&, std::uint32_t)>& tell) {
  ByteWriter telling;
  tell(telling, 0);
  const std::size_t stride = 24 + telling.view().size();
  ByteWriter index, data;
  std::size_t at = 8 + nodes.size() * stride;
  for (std::uint32_t i = 0; i < nodes.size(); ++i) {
    index.text(padded(nodes[i].name, 16));
    tell(index, i);
    index.u32(at).u32(nodes[i].data.size());
    data.bytes(nodes[i].data);
    at += nodes[i].data.size();
  }
  ByteWriter bytes;
  return bytes.text("BAY8").u32(nodes.size()).bytes(index.take()).bytes(data.take()).take();
}

/// The files with their folders, whatever their order.
std::map<std::string, Bytes> expected(const std::vector<Node>& nodes) {
  std::map<std::string, Bytes> files;
  for (const Node& node : nodes) {
    if (node.data.empty()) continue;
    std::string path = node.name;
    for (const Node* above = &node; above->parent != static_cast<std::size_t>(above - nodes.data());) {
      above = &nodes[above->parent];
      if (!above->name.empty()) path.insert(0, above->name + "/");
    }
    files[path] = node.data;
  }
  return files;
}

struct Telling {
  const char* name;
  bool by_level, one_root;
  std::function<void(ByteWriter&, const Node&, std::uint32_t)> tell;
  const char* drafted;
};

std::uint32_t from_one(std::uint32_t number) {
  return number + 1;
}  // and no number becomes 0

const Telling kTellings[] = {
    {"depth", false, false, [](ByteWriter& out, const Node& node, std::uint32_t) { out.u16(node.depth + 1); },
     "folder_of(n)"},
    {"depth below one", false, true,
     [](ByteWriter& out, const Node& node, std::uint32_t) { out.u8(node.depth).u8(7); }, "folder_of(n)"},
    {"record behind", false, false,
     [](ByteWriter& out, const Node& node, std::uint32_t i) {
       out.u32(node.data.empty() ? i + 1 + node.all : 0);
     },
     "items[n].behind"},
    {"record behind, one root", false, true,
     [](ByteWriter& out, const Node& node, std::uint32_t i) { out.u32be(i + 1 + node.all); },
     "items[n].behind"},
    {"records inside", false, false,
     [](ByteWriter& out, const Node& node, std::uint32_t) { out.u16(node.all); }, "items[n].inside"},
    {"first and count", true, false,
     [](ByteWriter& out, const Node& node, std::uint32_t) { out.u32(node.first).u32(node.children); },
     "items[n].first + items[n].children"},
    {"first and count, one root", true, true,
     [](ByteWriter& out, const Node& node, std::uint32_t) {
       out.u16(node.children).u16(node.children == 0 ? 0 : node.first);
     },
     "items[n].first + items[n].children"},
    {"links", false, false,
     [](ByteWriter& out, const Node& node, std::uint32_t) { out.u32(node.first).u32(node.next); },
     "then items[x].next)"},
    {"links from one", true, false,
     [](ByteWriter& out, const Node& node, std::uint32_t) {
       out.u16(from_one(node.next)).u16(from_one(node.first));
     },
     "then items[x].next - 1)"},
    {"links, one root", false, true,
     [](ByteWriter& out, const Node& node, std::uint32_t) {
       out.u32(node.first == kNone ? 0 : node.first).u32(node.next == kNone ? 0 : node.next);
     },
     "roots = range(0, 1)"},
};

class StudyNesting : public testing::TestWithParam<Telling> {};

TEST_P(StudyNesting, PutsFilesIntoFolders) {
  const Telling& telling = GetParam();
  std::vector<Node> nodes = kiosk(telling.by_level, telling.one_root);
  Studied found =
      studied(pack(nodes, [&](ByteWriter& out, std::uint32_t i) { telling.tell(out, nodes[i], i); }));
  std::map<std::string, Bytes> files;
  for (const File& file : found.files) {
    if (!file.data.empty()) files[file.name] = file.data;
  }
  EXPECT_EQ(files, expected(nodes)) << found.draft;
  EXPECT_NE(found.draft.find(telling.drafted), std::string::npos) << found.draft;
}

INSTANTIATE_TEST_SUITE_P(All, StudyNesting, testing::ValuesIn(kTellings), [](const auto& one) {
  std::string name;
  for (char c : std::string(one.param.name)) name += c == ' ' || c == ',' ? '_' : c;
  return name;
});

/// A sign that tells folders from files is neither a depth nor a count.
TEST(StudyNestingAlone, TakesNoSignForATree) {
  std::vector<Node> nodes = kiosk(false, false);
  for (bool folder_is : {true, false}) {
    Studied found = studied(pack(nodes, [&](ByteWriter& out, std::uint32_t i) {
      out.u32(nodes[i].data.empty() == folder_is ? 1 : 0);
    }));
    ASSERT_EQ(found.files.size(), nodes.size()) << found.draft;
    EXPECT_EQ(found.files[1].name, nodes[1].name);
    EXPECT_EQ(found.draft.find("folder"), std::string::npos) << found.draft;
  }
}

}  // namespace
}  // namespace operculum::study
