// Several files of one kind: what one of them tells too little of is learned from another, and a draft that
// opens others as well is believed sooner.
#include <gtest/gtest.h>

#include "study/study.h"
#include "support/byte_writer.h"
#include "support/sample_tree.h"
#include "support/studied.h"

namespace operculum::study {
namespace {

using namespace test;

/// Names with their lengths, and sizes, in front of the data.
Bytes chain(std::size_t count) {
  ByteWriter bytes;
  bytes.text("BAYK").u32be(static_cast<std::uint32_t>(count));
  for (const File& file : exhibits(count)) {
    bytes.u32be(static_cast<std::uint32_t>(file.name.size())).text(file.name);
    bytes.u32be(static_cast<std::uint32_t>(file.data.size())).bytes(file.data);
  }
  return bytes.take();
}

/// Places and sizes in front of the data.
Bytes table(std::size_t count) {
  ByteWriter bytes;
  std::uint32_t at = static_cast<std::uint32_t>(8 + count * 8);
  bytes.text("BAYT").u32(static_cast<std::uint32_t>(count));
  for (const File& file : exhibits(count)) {
    bytes.u32(at).u32(static_cast<std::uint32_t>(file.data.size()));
    at += static_cast<std::uint32_t>(file.data.size());
  }
  for (const File& file : exhibits(count)) bytes.bytes(file.data);
  return bytes.take();
}

/// Places alone, each with zeros behind it up to so many bytes.
Bytes places(std::size_t count, std::size_t stride) {
  ByteWriter bytes;
  std::size_t at = 8 + count * stride;
  bytes.text("BAYP").u32(static_cast<std::uint32_t>(count));
  for (const File& file : exhibits(count)) {
    bytes.u32(static_cast<std::uint32_t>(at)).zeros(stride - 4);
    at += file.data.size();
  }
  for (const File& file : exhibits(count)) bytes.bytes(file.data);
  return bytes.take();
}

std::vector<Bytes> contents(const std::vector<File>& files) {
  std::vector<Bytes> all;
  for (const File& file : files) all.push_back(file.data);
  return all;
}

NamedFile named(const Bytes& bytes, const std::string& name) {
  return {make_memory_source(bytes), name};
}

std::vector<File> opened_with(const Drafted& drafted, const Bytes& bytes) {
  OpenContext context;
  return files_in(*opened_by(drafted.text, make_memory_source(bytes), context));
}

TEST(StudyKin, LearnsFromAFileThatTellsMore) {
  OpenContext context;
  Bytes few = chain(3), many = chain(20);
  EXPECT_FALSE(study({named(few, "few.bay"), 4}, context).solved());
  Findings with = study({named(few, "few.bay"), 4, {named(many, "many.bay")}}, context);
  ASSERT_TRUE(with.solved());
  EXPECT_EQ(with.drafts.front().learned_from, "many.bay");
  EXPECT_EQ(opened_with(with.drafts.front(), few), exhibits(3));
}

TEST(StudyKin, LearnsNothingThatDoesNotFit) {
  OpenContext context;
  Bytes few = chain(3), many = table(20);
  EXPECT_FALSE(study({named(few, "few.bay"), 4, {named(many, "many.bay")}}, context).solved());
}

TEST(StudyKin, CountsHowManyOthersADraftOpens) {
  OpenContext context;
  Bytes one = table(12), other = table(20), chained = chain(20), as_long = table(12);
  Findings found = study(
      {named(one, "one.bay"), 4, {named(other, "b.bay"), named(chained, "c.bay"), named(as_long, "d.bay")}},
      context);
  ASSERT_TRUE(found.solved());
  EXPECT_EQ(found.drafts.front().fits, 1u) << "a file as long as this one tells nothing";
  EXPECT_TRUE(found.drafts.front().learned_from.empty());
}

TEST(StudyKin, BelievesSoonerWhatOpensOthers) {
  OpenContext context;
  Bytes one = places(5, 6);
  EXPECT_FALSE(study({named(one, "one.bay"), 4}, context).solved());
  Findings with = study(
      {named(one, "one.bay"), 4, {named(places(9, 6), "b.bay"), named(places(12, 6), "c.bay")}}, context);
  ASSERT_TRUE(with.solved());
  EXPECT_EQ(with.drafts.front().fits, 2u);
  EXPECT_TRUE(with.drafts.front().learned_from.empty());
  EXPECT_EQ(contents(opened_with(with.drafts.front(), one)), contents(exhibits(5)));
}

}  // namespace
}  // namespace operculum::study
