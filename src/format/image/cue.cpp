// A cue sheet and the files with the sectors that it names: an entry for each track, sound as WAV.
#include <fmt/format.h>

#include <algorithm>

#include "base/numbers.h"
#include "base/text.h"
#include "format/image/cd_sectors.h"
#include "format/image/cue_sheet.h"
#include "format/image/formats.h"
#include "io/missing_source.h"
#include "io/spool.h"

namespace operculum {
namespace {

constexpr std::size_t kLargestSheet = 1 << 20;  // bytes

/// What a mode of the sheet means.
struct Mode {
  std::string_view name;
  std::size_t stride;  ///< bytes of a sector in the file
  bool raw;            ///< with synchronisation: the sectors say where their data is
  std::size_t user_at;
};
constexpr Mode kModes[] = {
    {"MODE1/2048", 2048, false, 0}, {"MODE1/2352", 2352, true, 0},  {"MODE1/2448", 2448, true, 0},
    {"MODE2/2048", 2048, false, 0}, {"MODE2/2336", 2336, false, 8}, {"MODE2/2352", 2352, true, 0},
    {"MODE2/2448", 2448, true, 0},  {"CDI/2336", 2336, false, 8},   {"CDI/2352", 2352, true, 0},
};

/// The head of a file with sound as a disc has it (RIFF WAVE, PCM): two channels of 16 bits, 44,100 samples a
/// second.
Bytes wave_head(std::uint64_t size) {
  constexpr std::uint32_t kRate = 44100, kChannels = 2, kBytes = 2;
  Bytes out;
  auto text = [&](std::string_view word) { out.insert(out.end(), word.begin(), word.end()); };
  auto number = [&](std::uint64_t value, std::size_t width) { append_number(out, width, value); };
  text("RIFF");
  number(36 + size, 4);
  text("WAVEfmt ");
  number(16, 4);
  number(1, 2);
  number(kChannels, 2);
  number(kRate, 4);
  number(kRate * kChannels * kBytes, 4);
  number(kChannels * kBytes, 2);
  number(kBytes * 8, 2);
  text("data");
  number(size, 4);
  return out;
}

class CueContainer final : public Container {
 public:
  CueContainer(const Input& input, CueSheet sheet) : sheet_(std::move(sheet)) {
    for (const CueFile& file : sheet_.files) open_file(input, file);
    for (std::size_t i = 0; i < sheet_.tracks.size(); ++i) add_track(i);
  }

  std::span<const Entry> entries() override { return entries_; }
  ContentPtr content(std::size_t index) override { return make_content(sources_[index]); }

  Facts facts() override {
    Facts out = {{"tracks", fmt::format("{}", sheet_.tracks.size())}};
    if (!sheet_.title.empty()) out.emplace_back("title", escape(sheet_.title));
    if (!sheet_.performer.empty()) out.emplace_back("performer", escape(sheet_.performer));
    if (!sheet_.catalogue.empty()) out.emplace_back("catalogue", escape(sheet_.catalogue));
    for (const CueFile& file : sheet_.files) out.emplace_back("data file", escape(file.name));
    return out;
  }

 private:
  void open_file(const Input& input, const CueFile& file) {
    std::size_t slash = file.name.find_last_of("/\\");
    std::string name = slash == std::string::npos ? file.name : file.name.substr(slash + 1);
    SourcePtr source = input.sibling ? input.sibling(name) : nullptr;
    if (!source)
      add_finding(
          Finding::Level::fault,
          fmt::format("the data file \"{}\" is not beside the sheet; put it there", escape(file.name)));
    files_.push_back(std::move(source));
  }

  /// Bytes of a sector of the track in its file; 0 where the file holds no sectors.
  std::size_t stride_of(const CueTrack& track) const {
    std::string kind = to_lower(sheet_.files[track.file].kind);
    if (kind != "binary" && kind != "motorola") return 0;
    if (track.mode == "AUDIO") return kRawSector;
    if (track.mode == "CDG") return kRawSector + kSubchannels;
    const Mode* mode = mode_of(track);
    return mode ? mode->stride : 0;
  }

  static const Mode* mode_of(const CueTrack& track) {
    const auto* found = std::find_if(std::begin(kModes), std::end(kModes),
                                     [&](const Mode& one) { return one.name == track.mode; });
    return found == std::end(kModes) ? nullptr : found;
  }

  /// Where a track's index lies in its file: all tracks in front of it there count with sectors of their own
  /// size.
  std::uint64_t offset_of(std::size_t index, std::uint64_t sector) const {
    std::uint64_t at = 0, from = 0;
    std::size_t stride = 0;
    for (std::size_t i = 0; i <= index; ++i) {
      const CueTrack& one = sheet_.tracks[i];
      if (one.file != sheet_.tracks[index].file) continue;
      if (stride != 0 && one.earliest > from) {
        at += (one.earliest - from) * stride;
        from = one.earliest;
      }
      stride = stride_of(one);
    }
    return at + (sector - std::min(sector, from)) * stride;
  }

  void add_track(std::size_t index) {
    const CueTrack& track = sheet_.tracks[index];
    const SourcePtr& file = files_[track.file];
    std::size_t stride = stride_of(track);
    bool sound = track.mode == "AUDIO" || track.mode == "CDG";
    Entry entry;
    entry.path = fmt::format("track-{:02}.{}", track.number, sound ? "wav" : "iso");
    entry.extras().type_tag = track.mode;
    entry.extras().comment = track.performer.empty() ? track.title : track.performer + ": " + track.title;
    SourcePtr source;
    if (!file) {
      source = make_missing(INT64_MAX, fmt::format("the data file \"{}\" is not beside the sheet",
                                                   escape(sheet_.files[track.file].name)));
      entry.flags |= Entry::damaged;
      entry.size = Entry::kUnknownSize;
    } else if (stride == 0) {
      source = whole_file(track, entry);
    } else {
      std::uint64_t begin = offset_of(index, track.begin), end = file->size();
      if (index + 1 < sheet_.tracks.size() && sheet_.tracks[index + 1].file == track.file)
        end = std::min(end, offset_of(index + 1, sheet_.tracks[index + 1].earliest));
      if (begin >= file->size()) {
        add_finding(Finding::Level::fault,
                    fmt::format("track {} begins behind the end of \"{}\"; the file is cut short",
                                track.number, escape(sheet_.files[track.file].name)));
        begin = end = file->size();
      }
      SourcePtr part = make_slice(file, begin, end > begin ? end - begin : 0);
      entry.stored_at = begin;
      entry.stored_size = part->size();
      source = sound ? sound_of(part, stride, track) : data_of(part, track, entry);
    }
    if (entry.size == Entry::kUnknownSize && file) entry.size = source->size();
    entries_.push_back(std::move(entry));
    sources_.push_back(std::move(source));
  }

  /// A file of its own kind, such as WAVE: its tracks are not cut out of it.
  SourcePtr whole_file(const CueTrack& track, Entry& entry) {
    const CueFile& file = sheet_.files[track.file];
    std::size_t dot = file.name.rfind('.');
    entry.path = fmt::format("track-{:02}{}", track.number,
                             dot == std::string::npos ? "" : to_lower(file.name.substr(dot)));
    if (track.begin != 0)
      add_finding(Finding::Level::warning,
                  fmt::format("track {} begins within \"{}\" ({}): the whole file is given", track.number,
                              escape(file.name), escape(file.kind)));
    return files_[track.file];
  }

  SourcePtr sound_of(SourcePtr part, std::size_t stride, const CueTrack& track) const {
    bool big = to_lower(sheet_.files[track.file].kind) == "motorola";
    SourcePtr samples = make_sound_data(std::move(part), stride, big);
    Bytes head = wave_head(samples->size());
    return make_joined({make_memory_source(std::move(head)), std::move(samples)});
  }

  SourcePtr data_of(SourcePtr part, const CueTrack& track, Entry& entry) {
    const Mode* mode = mode_of(track);
    SectorShape shape{mode->stride, mode->user_at};
    try {
      if (mode->raw && part->size() >= 16)
        shape = shape_of_sectors(read_exactly(*part, 0, 16, "sector of a disc"), mode->stride);
    } catch (const Malformed& error) {
      entry.flags |= Entry::damaged;
      add_finding(Finding::Level::fault, fmt::format("track {}: {}", track.number, error.what()));
      return part;
    }
    return make_user_data(std::move(part), shape);
  }

  CueSheet sheet_;
  std::vector<SourcePtr> files_, sources_;
  std::vector<Entry> entries_;
};

Match recognise_cue(Probe& probe) {
  constexpr std::size_t kSheet = 65536, kGlance = 512;
  if (as_text(probe.head(kGlance)).find('\0') != std::string_view::npos) return Match::none;  // no text
  std::string_view text = as_text(probe.head(kSheet));
  if (text.find('\0') != std::string_view::npos || text.find("TRACK") == std::string_view::npos ||
      text.find("FILE") == std::string_view::npos || text.find("INDEX 01") == std::string_view::npos)
    return Match::none;
  try {
    parse_cue_sheet(text);
    return Match::front;
  } catch (const Malformed& error) {
    if (to_lower(probe.name()).ends_with(".cue")) probe.add_almost(error.what());
    return Match::none;
  }
}

ContainerPtr open_cue(const Input& input, OpenContext& context) {
  SourcePtr file = random_access(*input.content, context.spool);
  if (file->size() > kLargestSheet)
    throw Malformed(fmt::format("a cue sheet of {} bytes is not possible", file->size()));
  return std::make_shared<CueContainer>(input, parse_cue_sheet(as_text(read_up_to(*file, 0, kLargestSheet))));
}

}  // namespace

Format cue_format() {
  return {.id = "cue",
          .name = "cue sheet of a CD",
          .family = "disk image",
          .specification = "cue sheets as burning programs describe them; ECMA-130",
          .reads =
              "data tracks of all modes as discs of 2,048 bytes a sector, sound tracks as WAV, both byte "
              "orders, several "
              "data files, titles",
          .lacks = "cutting tracks out of WAVE, AIFF and MP3 files; sheets of other kinds",
          .suffixes = {".cue"},
          .recognise = recognise_cue,
          .open = open_cue};
}

}  // namespace operculum
