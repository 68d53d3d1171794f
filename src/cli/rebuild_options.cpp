#include "cli/rebuild_options.h"

#include <fmt/format.h>
#include <sys/stat.h>

#include "base/text.h"
#include "cli/confinement.h"
#include "cli/progress_line.h"
#include "container/outer_file.h"
#include "layout/library.h"
#include "report/rebuild_text.h"
#include "report/records.h"

namespace operculum::cli {

void PackOptions::add_to(Options& command) {
  command.text("--method", method, "CODEC",
               "Pack what is new with this codec, not as the entry that it replaces (stored, deflate, bzip2, "
               "lzma, xz, zstd)");
  command.text(
      "--level", level, "NUMBER",
      "Pack what is new at this level, in the codec's own scale, instead of looking for the original's");
  command.number("--jobs", jobs, "Threads (0: one for each processor)");
}

PackChoice PackOptions::choice() const {
  PackChoice choice;
  choice.method = method;
  choice.jobs = jobs;
  if (level.empty()) return choice;
  auto number = parse_number(level);
  constexpr std::uint64_t kHighest = 22;  // zstd's
  if (!number || *number > kHighest)
    throw UsageError{
        fmt::format("--level: expected a number from 0 to {}, found \"{}\"", kHighest, escape(level))};
  choice.level = static_cast<int>(*number);
  return choice;
}

Wish wish_of(Wish::Kind kind, const std::string& text, const char* option) {
  std::size_t best = text.rfind('=');
  for (std::size_t at = text.find('='); at != std::string::npos; at = text.find('=', at + 1)) {
    struct stat status {};
    if (kind != Wish::Kind::rename && lstat(text.substr(at + 1).c_str(), &status) == 0) best = at;
  }
  if (best == std::string::npos || best == 0 || best + 1 == text.size()) {
    throw UsageError{fmt::format("{}: expected {}, found \"{}\"", option,
                                 kind == Wish::Kind::rename ? "OLD=NEW" : "PATH=FILE", escape(text))};
  }
  return {kind, text.substr(0, best), text.substr(best + 1)};
}

void confine_rebuild(Session& session, const RebuildRequest& request, const std::string& workshop) {
  Confinement confinement(session);
  if (!workshop.empty()) confinement.changes(workshop).takes_back(workshop);
  confinement.reads(request.target).reads(request.from);
  for (const Wish& wish : request.wishes) {
    if (wish.kind == Wish::Kind::set || wish.kind == Wish::Kind::add) confinement.reads_file(wish.with);
  }
  if (!request.dry_run) {
    confinement.makes(request.receipt);
    // In place: where the file itself is, not the link to it.
    confinement.makes(request.into.empty() ? real_path_of(file_of(request.target, &session.context))
                                           : request.into);
  }
  confinement.begin();
}

void run_rebuild(Session& session, const RebuildRequest& request, Told told) {
  RebuildResult result;
  {
    ProgressLine line(session);
    result = rebuild(request, session.context, session.progress);
    line.clear();
  }
  if (told == Told::result)
    std::erase_if(result.fates, [](const Fate& fate) { return fate.kind == Fate::Kind::removed; });
  if (session.json) {
    for (const Fate& fate : result.fates) session.data.write(json_line(fate, request.dry_run));
    return session.data.write(json_line(result, request.dry_run));
  }
  session.data.write(rebuild_text(result, request.target, request.dry_run));
  if (!request.receipt.empty() && !result.written.empty()) {
    session.data.flush();
    session.say(Session::Tone::note,
                fmt::format("to take it back: operculum discard {}", shell_word(request.receipt)));
  }
}

std::string word_for_format(Session& session, const std::string& given) {
  if (!given.ends_with(".layout")) return given;
  session.layouts.push_back(given);
  return layout::layout_name(given);
}

}  // namespace operculum::cli
