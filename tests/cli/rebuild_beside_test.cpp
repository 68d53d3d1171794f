// rebuild of packs whose data lies in a file beside their index.
#include <gtest/gtest.h>

#include "base/checksum.h"
#include "codec/codec.h"
#include "support/byte_writer.h"
#include "support/has.h"
#include "support/json.h"
#include "support/program.h"
#include "support/sample_tree.h"
#include "support/temp_folder.h"

namespace operculum::test {
namespace {

constexpr const char* kLayout = R"(layout "Winkle index"
suffix .wink
record Head {
  magic bytes "WINK"
  count u32
  total u32
}
record Row {
  name  text[24] padded 0
  at    u32
  size  u32
  check u32
}
head  = Head at 0
rows  = Row[head.count] at 12
store = file("NAME")
require length(store) == head.total
entry for row in rows {
  path  = row.name
  data  = part(store, row.at, row.size)
  crc32 = row.check
}
)";

std::string slow() {
  return "slow" + std::string(400, '.') + "\n";  // smaller sizes are often equal to something else
}

class RebuildBeside : public testing::Test {
 protected:
  /// A pack whose description calls the file with its data `name`, in which it is called `file`.
  void write(const std::string& name, const std::string& file) {
    std::string layout = kLayout;
    layout.replace(layout.find("NAME"), 4, name);
    folder.write("winkle.layout", layout);
    ByteWriter rows, data;
    for (const auto& [path, text] : {std::pair<std::string, std::string>{"crab.txt", "sideways\n"},
                                     {"tide.txt", "low water\n"},
                                     {"whelk.txt", slow()}}) {
      std::string field = path;
      field.resize(24);
      rows.text(field).u32(data.size()).u32(text.size()).u32(crc32(0, as_bytes(text)));
      data.text(text);
    }
    ByteWriter index;
    index.text("WINK").u32(3).u32(data.size()).bytes(rows.view());
    folder.write("pool.wink", as_text(index.view()));
    folder.write(file, as_text(data.view()));
    folder.write("new.txt", kNew);
  }

  Ran tool(std::vector<std::string> words) {
    words.insert(words.begin() + 1, {"--layout", "winkle.layout"});
    return operculum(words, folder.path());
  }

  const std::string kNew = "low water at ten, high water at four\n";
  TempFolder folder;
};

TEST_F(RebuildBeside, AllFilesGoIntoAnotherFolder) {
  write("{file_stem}.dat", "pool.dat");
  std::string index = folder.read("pool.wink"), data = folder.read("pool.dat");
  folder.write("out/readme", "");
  Ran ran = tool({"rebuild", "pool.wink", "--set", "tide.txt=new.txt", "--into", "out/pool.wink"});
  ASSERT_EQ(ran.exit_code, 0) << ran.err;
  EXPECT_TRUE(has(ran.out, "out/pool.dat: written, a part of it")) << ran.out;
  EXPECT_EQ(tool({"show", "out/pool.wink/tide.txt"}).out, kNew);
  EXPECT_EQ(tool({"show", "out/pool.wink/whelk.txt"}).out, slow());
  EXPECT_EQ(tool({"verify", "out/pool.wink"}).exit_code, 0);
  EXPECT_EQ(folder.read("pool.wink"), index);
  EXPECT_EQ(folder.read("pool.dat"), data);
  // What does not change is needed there, too.
  Ran renamed =
      tool({"rebuild", "pool.wink", "--rename", "tide.txt=ebb.txt", "--into", "away.wink", "--json"});
  ASSERT_EQ(renamed.exit_code, 0) << renamed.err;
  EXPECT_EQ(parse_json(renamed.out.substr(renamed.out.find('\n') + 1))["beside"],
            nlohmann::json({"away.dat"}));
  EXPECT_EQ(folder.read("away.dat"), data);
  EXPECT_EQ(tool({"show", "away.wink/ebb.txt"}).out, "low water\n");
}

TEST_F(RebuildBeside, AllAreTakenBack) {
  write("{file_stem}.dat", "pool.dat");
  std::string index = folder.read("pool.wink"), data = folder.read("pool.dat");
  Ran ran = tool({"rebuild", "pool.wink", "--set", "tide.txt=new.txt", "--in-place", "--receipt", "r.json"});
  ASSERT_EQ(ran.exit_code, 0) << ran.err;
  EXPECT_EQ(tool({"show", "pool.wink/tide.txt"}).out, kNew);
  EXPECT_TRUE(has(ran.out, "pool.dat: written, a part of it\npool.dat.before: the original\n")) << ran.out;
  EXPECT_EQ(folder.read("pool.dat.before"), data);
  EXPECT_EQ(folder.read("pool.wink.before"), index);
  EXPECT_EQ(operculum({"discard", "r.json"}, folder.path()).exit_code, 0);
  EXPECT_EQ(folder.read("pool.dat"), data);
  EXPECT_EQ(folder.read("pool.wink"), index);
  EXPECT_FALSE(folder.has("pool.dat.before"));
}

TEST_F(RebuildBeside, WhatTheOriginalNeedsStays) {
  write("sea.dat", "sea.dat");
  std::string data = folder.read("sea.dat");
  Ran ran = tool({"rebuild", "pool.wink", "--set", "tide.txt=new.txt", "--into", "other.wink"});
  EXPECT_EQ(ran.exit_code, 3);
  EXPECT_TRUE(has(ran.err, "changing \"sea.dat\", which the original needs as it is; --into another folder"))
      << ran.err;
  EXPECT_FALSE(folder.has("other.wink"));
  // Where it stays as it is, both need the same one.
  EXPECT_EQ(tool({"rebuild", "pool.wink", "--rename", "tide.txt=ebb.txt", "--into", "other.wink"}).exit_code,
            0);
  EXPECT_EQ(tool({"show", "other.wink/ebb.txt"}).out, "low water\n");
  EXPECT_EQ(folder.read("sea.dat"), data);
}

TEST_F(RebuildBeside, NothingIsLeftWhereTheIndexCannotBeWritten) {
  write("{file_stem}.dat", "pool.dat");
  folder.write("out/pool.wink", "something else");
  Ran ran = tool({"rebuild", "pool.wink", "--set", "tide.txt=new.txt", "--into", "out/pool.wink"});
  EXPECT_NE(ran.exit_code, 0);
  EXPECT_FALSE(folder.has("out/pool.dat"));
  EXPECT_EQ(folder.read("out/pool.wink"), "something else");
}

TEST_F(RebuildBeside, AnEntryMayBeNamedAfterItsFile) {
  folder.write("tides.txt.gz", as_text(encode("gzip", to_bytes("low water\n"))));
  folder.write("new.txt", kNew);
  Ran ran = operculum({"rebuild", "tides.txt.gz", "--set", "tides.txt=new.txt", "--into", "ebb.txt.gz"},
                      folder.path());
  EXPECT_EQ(ran.exit_code, 0) << ran.err;
  EXPECT_EQ(operculum({"show", "ebb.txt.gz/ebb.txt"}, folder.path()).out, kNew);
}

TEST_F(RebuildBeside, WithinAContainerTheFilesBesideItChangeToo) {
  write("{file_stem}.dat", "pool.dat");
  folder.write("sea/pool.wink", folder.read("pool.wink"));
  folder.write("sea/pool.dat", folder.read("pool.dat"));
  folder.write("sea/readme", "left as it is");
  for (const std::string& name : {std::string("packs.tar"), std::string("packs.tar.xz")}) {
    SCOPED_TRACE(name);
    std::string packed = name.ends_with(".xz") ? "cJf" : "cf";
    ASSERT_EQ(run("tar", {packed, name, "sea"}, folder.path()).exit_code, 0);
    Ran ran =
        tool({"rebuild", name + "/sea/pool.wink", "--set", "tide.txt=new.txt", "--into", "new-" + name});
    ASSERT_EQ(ran.exit_code, 0) << ran.err;
    EXPECT_TRUE(has(ran.out, "sea/pool.dat")) << ran.out;
    EXPECT_EQ(tool({"show", "new-" + name + "/sea/pool.wink/tide.txt"}).out, kNew);
    EXPECT_EQ(tool({"show", "new-" + name + "/sea/pool.wink/whelk.txt"}).out, slow());
    EXPECT_EQ(tool({"show", "new-" + name + "/sea/readme"}).out, "left as it is");
    EXPECT_EQ(tool({"verify", "new-" + name + "/sea/pool.wink"}).exit_code, 0);
  }
}

/// The file with the data is reached by a link: what it names is no entry that could be written.
TEST_F(RebuildBeside, WithinAContainerALinkBesideItIsNotFollowed) {
  write("{file_stem}.dat", "pool.dat");
  std::filesystem::rename(folder.path("pool.dat"), folder.path("store"));
  std::filesystem::create_symlink("store", folder.path("pool.dat"));
  ASSERT_EQ(run("tar", {"cf", "packs.tar", "pool.wink", "pool.dat", "store"}, folder.path()).exit_code, 0);
  Ran ran = tool({"rebuild", "packs.tar/pool.wink", "--set", "tide.txt=new.txt", "--into", "new.tar"});
  EXPECT_NE(ran.exit_code, 0);
  EXPECT_FALSE(folder.has("new.tar"));
}

}  // namespace
}  // namespace operculum::test
