#include "collection/compare.h"

#include <fmt/format.h>

#include "base/text.h"
#include "base/units.h"
#include "cli/confinement.h"
#include "cli/progress_line.h"
#include "cli/session.h"
#include "collection/catalogue/query.h"
#include "report/collection_records.h"
#include "report/compare_text.h"
#include "report/hex_view.h"
#include "task/places.h"

namespace operculum::cli {
namespace {

struct CompareOptions {
  std::string before, after, page, catalogue;
  CompareRequest request;
  bool summary = false;
};

constexpr std::string_view kBlankLabel = "           ";

std::string_view colour_of(char mark) {
  return mark == '+' ? "32" : mark == '-' ? "31" : mark == '@' ? "36" : "";
}

Shown hex_side(ByteView ours, ByteView theirs, bool colour, std::size_t letters) {
  auto mark = [colour](const std::string& digits) { return styled(digits, "1;31", colour).text(); };
  return shown("{} {:<{}}", Shown::made(hex_digits(ours, theirs, mark)), hex_letters(ours), letters);
}

class Comparison {
 public:
  Comparison(Session& session, const CompareOptions& options)
      : session_(session),
        options_(options),
        colour_(session.output.empty() && colour_wanted(1)),
        page_(options.before, options.after) {}

  void run() {
    ProgressLine line(session_);
    DifferenceSink sink = [&](const Difference& difference) {
      line.clear();
      tell(difference);
    };
    CompareTotals totals = options_.catalogue.empty() ? look(sink) : ask(sink);
    line.clear();
    finish(totals);
  }

 private:
  CompareTotals look(const DifferenceSink& sink) {
    Place before = place_of(options_.before), after = place_of(options_.after);
    check_kinds(before, after);
    return compare(before, after, options_.request, session_.context, session_.progress, sink);
  }

  CompareTotals ask(const DifferenceSink& sink) {
    std::unique_ptr<Database> database = open_catalogue(options_.catalogue, Database::Mode::read);
    return compare_in_catalogue(*database, catalogued_path(options_.before), catalogued_path(options_.after),
                                options_.request, sink);
  }

  Place place_of(const std::string& target) {
    try {
      return resolve_with_folders(target, session_.context);
    } catch (const Error& error) {
      report_error(session_, target, error);
      throw Told{};
    }
  }

  /// Two single files are compared as they are; a file and a container never have anything in common.
  void check_kinds(const Place& before, const Place& after) const {
    if (before.is_container() == after.is_container()) return;
    const std::string& file = before.is_container() ? options_.after : options_.before;
    session_.say(
        Session::Tone::warning,
        fmt::format("{} is a single file and no container that this program knows: it is held against the "
                    "entries of the other by its name",
                    escape(file)));
  }

  void tell(const Difference& difference) {
    if (!options_.page.empty()) page_.add(difference);
    if (options_.summary) return;
    if (session_.json) return session_.data.write(json_line(difference));
    std::string path = escape(difference.path);
    if (path.empty()) path = escape(options_.before);
    if (!difference.new_path.empty()) path += " -> " + escape(difference.new_path);
    session_.data.write(shown("{}  {}{}\n",
                              styled(fmt::format("{:<9}", name_of(difference.kind)), "1", colour_), path,
                              with_dash(difference_text(difference))));
    if (difference.text) tell_lines(*difference.text);
    if (difference.bytes) tell_bytes(*difference.bytes);
  }

  static std::string with_dash(const std::string& text) { return text.empty() ? "" : ": " + text; }

  void tell_lines(const TextDiff& text) {
    std::string lines = unified(text);
    for (std::string_view line : split(lines, '\n')) {
      if (line.empty()) continue;
      std::string_view sgr = colour_of(line[0]);
      session_.data.write(shown("{}{}\n", kBlankLabel, styled(line, sgr, colour_ && !sgr.empty())));
    }
  }

  void tell_bytes(const ByteDiff& bytes) {
    for (const HexPair& row : hex_pairs(bytes))
      session_.data.write(shown("{}{:08x}  {}   {}\n", kBlankLabel, row.at,
                                hex_side(row.before, row.after, colour_, kHexRow),
                                hex_side(row.after, row.before, colour_, 0)));
  }

  void finish(const CompareTotals& totals) {
    if (session_.json) {
      session_.data.write(json_line(totals));
    } else if (!session_.quiet || totals.differ()) {
      session_.data.write(
          shown("{} and {}: {}.\n", escape(options_.before), escape(options_.after), totals_text(totals)));
    }
    if (totals.containers_changed > 0 && !options_.request.deep)
      session_.say(Session::Tone::note,
                   fmt::format("{} that changed {} by name; --deep compares what is in them",
                               counted(totals.containers_changed, "file", "files"),
                               totals.containers_changed == 1 ? "is a container" : "are containers"));
    if (!options_.page.empty()) session_.write_new_file(options_.page, page_.finish(totals), "page");
    if (totals.key_needed) session_.raise(key_needed);
    if (totals.differ() || totals.unreadable > 0) session_.raise(some_failed);
  }

 public:
  struct Told {};  ///< the error was said

 private:
  Session& session_;
  const CompareOptions& options_;
  bool colour_;
  ComparePage page_;
};

}  // namespace

void add_compare(CommandLine& program, Session& session) {
  Options command =
      program.command({"compare",
                       "Tell what differs between two containers or folders, whatever they are packed in",
                       {"operculum compare exhibit-7.tar.xz exhibit-8.zip",
                        "operculum compare --deep --page changes.html build-1 build-2"}});
  auto options = std::make_shared<CompareOptions>();
  command.argument("BEFORE", options->before, "A container, a folder, or a path into a container");
  command.argument("AFTER", options->after, "What it is compared with");
  command.flag("--deep", options->request.deep, "Containers that differ are compared by what is in them");
  command.flag("--content", options->request.content,
               "Compare the bytes themselves, even where both sides store a checksum");
  command.flag("--metadata", options->request.metadata,
               "Also what is said of equal files: times, modes, methods, comments, order");
  command.text("--catalogue", options->catalogue, "DB",
               "Compare two files as this catalogue knows them, by sizes and sums; neither is read");
  command.flag("--summary", options->summary, "Only how much of what, no lines");
  command.text("--page", options->page, "FILE", "Write an HTML page of the differences to this new file");
  command.number("--jobs", options->request.jobs, "Threads (0: one for each processor)");
  command.run([&session, options] {
    prepare(session);
    options->request.details = !options->summary || !options->page.empty();
    Confinement confinement(session);
    if (options->catalogue.empty()) {
      confinement.reads(options->before).reads(options->after);
    } else {
      confinement.asks(options->catalogue);
    }
    confinement.makes(options->page).begin();
    try {
      Comparison(session, *options).run();
    } catch (const Comparison::Told&) {
      return;
    } catch (const std::exception& thrown) {
      report_error(session, options->before, as_error(thrown));
    }
  });
}

}  // namespace operculum::cli
