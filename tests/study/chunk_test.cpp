// Tagged chunks that lie in each other.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include "support/byte_writer.h"
#include "support/studied.h"

namespace operculum::study {
namespace {

using namespace test;

/// How chunks are written.
struct Form {
  const char* name;
  bool big, size_first;
  std::uint32_t bias, align;
  const char* drafted;
};

Bytes chunk(const Form& form, std::string_view tag, const Bytes& data) {
  ByteWriter out;
  auto size = static_cast<std::uint32_t>(data.size()) + form.bias;
  auto put_size = [&] { form.big ? out.u32be(size) : out.u32(size); };
  if (form.size_first) put_size();
  out.text(tag);
  if (!form.size_first) put_size();
  return out.bytes(data).align(form.align).take();
}

Bytes joined(std::initializer_list<Bytes> parts) {
  Bytes all;
  for (const Bytes& part : parts) all.insert(all.end(), part.begin(), part.end());
  return all;
}

/// Two rooms with exhibits in them, and what is beside them; `files` are the data of the leaves, in order.
Bytes rooms(const Form& form, std::vector<Bytes>& files, std::string_view kind = "") {
  std::size_t next = 0;
  std::vector<File> data = exhibits(20);
  auto leaf = [&](std::string_view tag) {
    files.push_back(data[next].data);
    return chunk(form, tag, data[next++].data);
  };
  auto exhibit = [&] { return chunk(form, "CASE", joined({leaf("CARD"), leaf("PICT"), leaf("SND ")})); };
  Bytes of_kind = kind.empty() ? Bytes{} : to_bytes(kind);
  Bytes all = leaf("VERS");
  for (int room = 0; room < 2; ++room) {
    Bytes inside = of_kind;
    for (int i = 0; i < 3; ++i) {
      Bytes one = exhibit();
      inside.insert(inside.end(), one.begin(), one.end());
    }
    Bytes whole = chunk(form, "ROOM", inside);
    all.insert(all.end(), whole.begin(), whole.end());
  }
  return all;
}

std::vector<Bytes> data_of(const Studied& found) {
  std::vector<Bytes> all;
  for (const File& file : found.files) all.push_back(file.data);
  return all;
}

constexpr Form kForms[] = {
    {"big", true, false, 0, 2, "  size u32"},
    {"little", false, false, 0, 1, "order  little"},
    {"counts_header", false, false, 8, 4, "within size - 8 {"},
    {"size_first", true, true, 0, 1, "  size u32 "},
    {"size_first_counts_header", true, true, 8, 1, "within size - 8 {"},
};

class StudyChunks : public testing::TestWithParam<Form> {};

TEST_P(StudyChunks, GoesIntoGroups) {
  std::vector<Bytes> files;
  Bytes chunks = rooms(GetParam(), files);
  ByteWriter bytes;
  bytes.text("BAYD").u32(0x10001).bytes(chunks);
  Studied found = studied(bytes.view());
  EXPECT_TRUE(data_of(found) == files) << found.draft;
  ASSERT_FALSE(found.files.empty());
  EXPECT_EQ(found.files[1].name, "ROOM/CASE/CARD-0003.bin");
  EXPECT_NE(found.draft.find("tag in {\"CASE\", \"ROOM\"}"), std::string::npos) << found.draft;
  EXPECT_NE(found.draft.find(GetParam().drafted), std::string::npos) << found.draft;
}

INSTANTIATE_TEST_SUITE_P(Forms, StudyChunks, testing::ValuesIn(kForms),
                         [](const auto& one) { return one.param.name; });

TEST(StudyChunksAlone, OneChunkMayHoldAllAndTellItsKind) {
  Form form{"little", false, false, 0, 2, ""};
  std::vector<Bytes> files;
  Bytes inside = rooms(form, files, "room");
  Bytes kind = to_bytes("tide");
  Studied found = studied(chunk(form, "BAYE", joined({kind, inside})));
  EXPECT_TRUE(data_of(found) == files) << found.draft;
  EXPECT_NE(found.draft.find("tag in {\"BAYE\", \"ROOM\"}"), std::string::npos) << found.draft;
  EXPECT_NE(found.draft.find("    } else when tag in"), std::string::npos) << found.draft;
}

/// The data of one chunk happens to be a chunk; that of others of its tag is none.
TEST(StudyChunksAlone, ATagMeansTheSameEverywhere) {
  Form form{"big", true, false, 0, 1, ""};
  std::vector<Bytes> files;
  Bytes all = rooms(form, files);
  Bytes lucky = chunk(form, "NOTE", files[3]);
  files.insert(files.begin(), lucky);
  all = joined({chunk(form, "CARD", lucky), all});
  ByteWriter bytes;
  bytes.text("BAYF").u32(0x10001).bytes(all);
  Studied found = studied(bytes.view());
  EXPECT_TRUE(data_of(found) == files) << found.draft;
}

}  // namespace
}  // namespace operculum::study
