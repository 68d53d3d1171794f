#include "format/image/cue_sheet.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "base/text.h"

namespace operculum {
namespace {

constexpr std::uint64_t kSectorsPerSecond = 75;
constexpr std::size_t kMostTracks = 99;

/// Words of a line; quotes hold blanks together.
std::vector<std::string> words_of(std::string_view line) {
  std::vector<std::string> out;
  for (std::size_t at = 0; at < line.size();) {
    if (line[at] == ' ' || line[at] == '\t' || line[at] == '\r') {
      ++at;
      continue;
    }
    bool quoted = line[at] == '"';
    std::size_t begin = at + (quoted ? 1 : 0);
    std::size_t end = quoted ? line.find('"', begin) : line.find_first_of(" \t\r", begin);
    end = std::min(end, line.size());
    out.emplace_back(line.substr(begin, end - begin));
    at = end + (quoted ? 1 : 0);
  }
  return out;
}

class Parser {
 public:
  explicit Parser(std::string_view text) : text_(text) {}

  CueSheet all() {
    if (text_.starts_with("\xEF\xBB\xBF")) text_.remove_prefix(3);
    for (std::string_view line : split(text_, '\n')) {
      ++line_;
      std::vector<std::string> words = words_of(line);
      if (!words.empty()) take(words);
    }
    for (const CueTrack& track : out_.tracks)
      if (!track.has_begin) fail(fmt::format("track {} to have an INDEX 01", track.number), "the end");
    if (out_.tracks.empty()) fail("a TRACK", "the end");
    return std::move(out_);
  }

 private:
  [[noreturn]] void fail(std::string_view expected, std::string_view found) const {
    throw Malformed(fmt::format("cue sheet, line {}: expected {}, found {}", line_, expected, found));
  }

  std::uint64_t number(const std::string& word) const {
    auto value = parse_number(word);
    if (!value || *value > 1'000'000) fail("a number", fmt::format("\"{}\"", escape(word)));
    return *value;
  }

  /// "mm:ss:ff", in sectors.
  std::uint64_t time(const std::string& word) const {
    std::vector<std::string_view> parts = split(word, ':');
    if (parts.size() != 3) fail("a time as mm:ss:ff", fmt::format("\"{}\"", escape(word)));
    return (number(std::string(parts[0])) * 60 + number(std::string(parts[1]))) * kSectorsPerSecond +
           number(std::string(parts[2]));
  }

  void take(const std::vector<std::string>& words) {
    std::string command = words[0];
    std::transform(command.begin(), command.end(), command.begin(),
                   [](char c) { return c >= 'a' && c <= 'z' ? static_cast<char>(c - 32) : c; });
    auto need = [&](std::size_t count) {
      if (words.size() < count)
        fail(fmt::format("{} words behind {}", count - 1, command), fmt::format("{}", words.size() - 1));
    };
    auto text = [&](std::string CueTrack::*of_track, std::string CueSheet::*of_sheet) {
      need(2);
      (out_.tracks.empty() ? out_.*of_sheet : out_.tracks.back().*of_track) = words[1];
    };
    if (command == "FILE") {
      need(3);
      if (out_.files.size() == kMostTracks) fail("at most 99 files", "another one");
      out_.files.push_back({words[1], words[2]});
    } else if (command == "TRACK") {
      need(3);
      if (out_.files.empty()) fail("a FILE in front of the first TRACK", "none");
      if (out_.tracks.size() == kMostTracks) fail("at most 99 tracks", "another one");
      CueTrack track;
      track.number = static_cast<unsigned>(number(words[1]));
      track.mode = words[2];
      track.file = out_.files.size() - 1;
      out_.tracks.push_back(std::move(track));
    } else if (command == "INDEX") {
      need(3);
      if (out_.tracks.empty()) fail("a TRACK in front of the first INDEX", "none");
      index(number(words[1]), time(words[2]));
    } else if (command == "TITLE") {
      text(&CueTrack::title, &CueSheet::title);
    } else if (command == "PERFORMER") {
      text(&CueTrack::performer, &CueSheet::performer);
    } else if (command == "CATALOG") {
      need(2);
      out_.catalogue = words[1];
    }
    // others (REM, FLAGS, PREGAP, POSTGAP, ISRC, SONGWRITER, CDTEXTFILE) say nothing of where bytes lie
  }

  void index(std::uint64_t which, std::uint64_t at) {
    CueTrack& track = out_.tracks.back();
    // a track may begin in one file and its gap lie in the one before
    track.file = out_.files.size() - 1;
    if (which > 1) return;
    track.earliest = which == 1 && track.earliest != 0 ? std::min(track.earliest, at) : at;
    if (which == 1) {
      track.begin = at;
      track.has_begin = true;
    }
  }

  std::string_view text_;
  std::size_t line_ = 0;
  CueSheet out_;
};

}  // namespace

CueSheet parse_cue_sheet(std::string_view text) {
  return Parser(text).all();
}

}  // namespace operculum
