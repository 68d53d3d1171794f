// Discs with raw sectors, alone and with a cue sheet.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include "base/text.h"
#include "format/image/cue_sheet.h"
#include "support/byte_writer.h"
#include "support/iso_writer.h"
#include "support/open.h"
#include "support/refusal.h"
#include "support/sample_tree.h"
#include "support/system_tools.h"

namespace operculum {
namespace {

using namespace test;

constexpr std::size_t kUser = 2048;

/// A raw sector of mode 1 or 2 around the user data.
Bytes raw_sector(ByteView user, unsigned mode, std::size_t size) {
  Bytes out = {0, 255, 255, 255, 255, 255, 255, 255, 255, 255, 255, 0, 0, 2, 0, static_cast<Byte>(mode)};
  if (mode == 2) out.resize(24, 8);
  out.insert(out.end(), user.begin(), user.end());
  out.resize(size, 0xEE);
  return out;
}

Bytes raw_image(ByteView disc, unsigned mode, std::size_t size = 2352) {
  Bytes out;
  for (std::size_t at = 0; at < disc.size(); at += kUser) {
    Bytes one = raw_sector(disc.subspan(at, std::min(kUser, disc.size() - at)), mode, size);
    out.insert(out.end(), one.begin(), one.end());
  }
  return out;
}

Bytes sample_disc() {
  Bytes disc = make_iso(sample_tree());
  disc.resize((disc.size() + kUser - 1) / kUser * kUser);
  return disc;
}

TEST(CdImage, RawSectorsHoldTheDisc) {
  Bytes disc = sample_disc();
  for (unsigned mode : {1U, 2U}) {
    for (std::size_t size : {2352, 2448}) {
      Held held = open_bytes(raw_image(disc, mode, size), "deck.bin");
      ASSERT_EQ(held.format(), "cd") << mode;
      EXPECT_EQ(text_of(*held, 0), as_text(disc)) << mode;
      EXPECT_NE(fact(*held, "sectors").find(fmt::format("mode {}", mode)), std::string::npos);
    }
  }
}

TEST(CdImage, ReadsFromAnywhere) {
  Bytes disc = sample_disc();
  Held held = open_bytes(raw_image(disc, 1), "deck.bin");
  SourcePtr source = held->content(0)->source();
  for (std::size_t at : {1, 2047, 2048, 5000, 200'000}) {
    EXPECT_EQ(as_text(read_up_to(*source, at, 5000)), as_text(disc).substr(at, 5000)) << at;
  }
}

TEST(CdImage, ACutSectorIsTold) {
  Bytes image = raw_image(sample_disc(), 1);
  image.resize(image.size() - 1000);
  Held held = open_bytes(image, "deck.bin");
  EXPECT_TRUE(has_finding(*held, "the last sector has 1352 of 2352 bytes"));
}

constexpr std::string_view kSheet =
    "REM made for the museum\r\n"
    "CATALOG 0000000000017\r\n"
    "PERFORMER \"Saltmarsh Point\"\r\n"
    "TITLE \"Sounds of the mole\"\r\n"
    "FILE \"old folder\\sounds.bin\" BINARY\r\n"
    "  TRACK 01 MODE1/2352\r\n"
    "    INDEX 01 00:00:00\r\n"
    "  TRACK 02 AUDIO\r\n"
    "    TITLE \"Gulls\"\r\n"
    "    PREGAP 00:02:00\r\n"
    "    INDEX 01 00:00:{:02}\r\n"
    "  TRACK 03 AUDIO\r\n"
    "    INDEX 00 00:00:{:02}\r\n"
    "    INDEX 01 00:00:{:02}\r\n";

struct Disc {
  Bytes data = Bytes(4 * kUser, 'd');
  Bytes gulls = noise(3 * 2352, 1), gap = noise(2 * 2352, 2), foghorn = noise(2352, 3);
  std::string sheet = fmt::format(fmt::runtime(kSheet), 4, 7, 9);
  Bytes file() const {
    Bytes out = raw_image(data, 1);
    for (const Bytes* part : {&gulls, &gap, &foghorn}) out.insert(out.end(), part->begin(), part->end());
    return out;
  }
};

TEST(CueSheet, TracksAreCutOutAndSoundIsWave) {
  Disc disc;
  Held held = open_beside("sounds.cue", {{"sounds.cue", to_bytes(disc.sheet)}, {"sounds.bin", disc.file()}});
  ASSERT_EQ(held.format(), "cue");
  EXPECT_EQ(paths_of(*held), "track-01.iso track-02.wav track-03.wav");
  EXPECT_EQ(text_at(*held, "track-01.iso"), as_text(disc.data));
  std::string gulls = text_at(*held, "track-02.wav"), foghorn = text_at(*held, "track-03.wav");
  EXPECT_EQ(gulls.substr(44), as_text(disc.gulls));  // the gap belongs to neither
  EXPECT_EQ(foghorn.substr(44), as_text(disc.foghorn));
  EXPECT_EQ(gulls.substr(0, 4) + gulls.substr(8, 8), "RIFFWAVEfmt ");
  EXPECT_EQ(entry_at(*held, "track-02.wav").extra->comment, "Gulls");
  EXPECT_EQ(fact(*held, "title"), "Sounds of the mole");
  EXPECT_TRUE(held->findings().empty()) << held->findings().front().text;
}

TEST(CueSheet, SwappedSamplesAreTurnedRound) {
  std::string sheet = "FILE a.bin MOTOROLA\nTRACK 1 AUDIO\nINDEX 01 00:00:00\n";
  Bytes sound(2352);
  sound[0] = 1;
  sound[1] = 2;
  Held held = open_beside("a.cue", {{"a.cue", to_bytes(sheet)}, {"a.bin", sound}});
  EXPECT_EQ(text_at(*held, "track-01.wav").substr(44, 2), "\x02\x01");
}

TEST(CueSheet, AMissingDataFileIsNamed) {
  Disc disc;
  Held held = open_beside("sounds.cue", {{"sounds.cue", to_bytes(disc.sheet)}});
  EXPECT_TRUE(has_finding(*held, "sounds.bin\" is not beside the sheet"));
  EXPECT_REFUSAL(text_at(*held, "track-02.wav"), Malformed,
                 "the data file \"old folder\\\\sounds.bin\" is not beside the sheet");
}

TEST(CueSheet, ATrackBehindTheEndIsTold) {
  Disc disc;
  Bytes cut = disc.file();
  cut.resize(8 * 2352);
  Held held = open_beside("sounds.cue", {{"sounds.cue", to_bytes(disc.sheet)}, {"sounds.bin", cut}});
  EXPECT_TRUE(has_finding(*held, "track 3 begins behind the end"));
  EXPECT_EQ(text_at(*held, "track-02.wav").substr(44), as_text(disc.gulls));
}

TEST(CueSheet, SaysWhereItIsWrong) {
  auto wrong = [](std::string_view text) {
    try {
      parse_cue_sheet(text);
    } catch (const Malformed& error) {
      return std::string(error.what());
    }
    return std::string("nothing");
  };
  EXPECT_EQ(wrong("TRACK 01 AUDIO\n"),
            "cue sheet, line 1: expected a FILE in front of the first TRACK, found none");
  EXPECT_EQ(wrong("FILE a BINARY\nTRACK 01 AUDIO\nINDEX 01 0:0\n"),
            "cue sheet, line 3: expected a time as mm:ss:ff, found \"0:0\"");
  EXPECT_EQ(wrong("FILE a\n"), "cue sheet, line 1: expected 2 words behind FILE, found 1");
  EXPECT_NE(wrong("FILE a BINARY\nTRACK 01 AUDIO\n").find("track 1 to have an INDEX 01"), std::string::npos);
}

}  // namespace
}  // namespace operculum
