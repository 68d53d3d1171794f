#include "task/study_file.h"

#include <algorithm>

#include "base/path_parts.h"
#include "container/embedded.h"
#include "container/locator.h"
#include "container/parts.h"
#include "study/leaves.h"
#include "study/text_test.h"

namespace operculum {
namespace {

constexpr std::size_t kMostSame = 64;      // bytes that are compared
constexpr std::size_t kMostBeside = 6;     // files
constexpr std::size_t kMostInside = 5000;  // of each sort

std::vector<study::NamedFile> named_files(const std::vector<std::string>& targets, OpenContext& context) {
  std::vector<study::NamedFile> files;
  for (const std::string& target : targets) {
    Place place = resolve(target, context, Step::bytes);
    files.push_back({random_access(*place.content, context.spool), place.name});
  }
  return files;
}

/// How many of the first bytes all files have in common.
std::size_t same_bytes(const Source& first, const std::vector<study::NamedFile>& others) {
  Bytes front = read_up_to(first, 0, kMostSame);
  for (const study::NamedFile& file : others) {
    Bytes other = read_up_to(*file.source, 0, kMostSame);
    front.erase(std::mismatch(front.begin(), front.end(), other.begin(), other.end()).first, front.end());
  }
  return front.size();
}

/// Those that are of the same kind as the file called `name`: all begin alike, or the name ends alike. Others
/// that are named may be its index, or hold its data.
std::vector<study::NamedFile> files_of_kind(const std::string& name, std::size_t same,
                                            std::vector<study::NamedFile> others) {
  constexpr std::size_t kMark = 4;  // bytes
  auto ending = [](std::string_view of) { return of.substr(file_stem(of).size()); };
  if (same < kMark)
    std::erase_if(others, [&](const study::NamedFile& file) { return ending(file.name) != ending(name); });
  return others;
}

/// Files beside the one that is studied which may be its index, or hold its data: those that are called like
/// it but for the ending, and those that were named with it.
std::vector<study::NamedFile> files_beside(const Place& place, const std::vector<std::string>& named,
                                           OpenContext& context) {
  Beside beside;
  if (place.entry)
    beside = entry_sibling(place.layers.back().container, place.inside, context);
  else if (place.layers.empty())
    beside = file_sibling(place.file);
  std::vector<study::NamedFile> files;
  for (const Candidate& candidate : beside.all()) {
    std::string name(base_name(candidate.name));
    ByteView bytes = as_bytes(name);
    bool plain = std::all_of(bytes.begin(), bytes.end(), study::is_ascii_name_byte);
    bool meant = std::any_of(named.begin() + 1, named.end(),
                             [&](std::string_view target) { return base_name(target) == name; });
    bool alike = file_stem(name) == file_stem(place.name);
    if (!plain || name == place.name || (!meant && !alike) || files.size() >= kMostBeside) continue;
    if (SourcePtr source = beside(name)) files.push_back({std::move(source), name});
  }
  return files;
}

/// What is recognised within the file: containers and packed streams, and files of other formats that tell
/// where they end.
std::vector<Recognised> recognised_inside(const SourcePtr& source, OpenContext& context) {
  std::vector<Recognised> all;
  for (const Embedded& one : find_embedded(source, 0, source->size(), context, {kMostInside, true, true}))
    all.push_back({one.at, one.at + (one.end_stated ? one.size : 0), std::string(one.format->name)});
  for (const study::Leaf& leaf : study::find_leaves(*source, kMostInside))
    all.push_back({leaf.begin, leaf.end, std::string(leaf.what)});
  std::stable_sort(all.begin(), all.end(),
                   [](const Recognised& a, const Recognised& b) { return a.begin < b.begin; });
  std::uint64_t end = 0;
  std::erase_if(all, [&](const Recognised& one) {
    if (one.begin < end) return true;
    end = std::max(end, one.end);
    return false;
  });
  return all;
}

}  // namespace

StudyReport study_files(const std::vector<std::string>& targets, OpenContext& context) {
  Place place = resolve(targets.front(), context, Step::bytes);
  StudyReport report;
  report.target = targets.front();
  SourcePtr source = random_access(*place.content, context.spool);
  report.size = source->size();
  Opened known = recognise_content(place.content, place.name, context);
  if (known.format != nullptr) report.known_as = known.format->name;
  std::vector<study::NamedFile> others = named_files({targets.begin() + 1, targets.end()}, context);
  report.same = same_bytes(*source, others);
  report.profile = study::profile_of(*source);
  report.inside = recognised_inside(source, context);
  std::vector<std::uint64_t> anchors;
  for (const Recognised& one : report.inside) anchors.push_back(one.begin);
  std::vector<study::NamedFile> kin = files_of_kind(place.name, report.same, std::move(others));
  report.kin = kin.size();
  report.findings = study::study({{source, place.name},
                                  report.same,
                                  std::move(kin),
                                  [&] { return files_beside(place, targets, context); },
                                  std::move(anchors)},
                                 context);
  return report;
}

}  // namespace operculum
