#include "collection/find.h"

#include <fmt/format.h>

#include "base/text.h"
#include "base/units.h"
#include "cli/confinement.h"
#include "cli/folder_options.h"
#include "cli/message_fold.h"
#include "cli/progress_line.h"
#include "cli/selection_options.h"
#include "collection/catalogue/query.h"
#include "collection/versions.h"
#include "report/collection_records.h"
#include "report/text_table.h"
#include "task/kinds.h"

namespace operculum::cli {
namespace {

struct FindOptions {
  std::vector<std::string> targets;
  SelectionOptions selection;
  FolderOptions folders;
  FindRequest request;
  std::vector<std::string> texts, bytes, encodings, digests, likes;
  std::string size, newer, older, catalogue;
  bool all_hits = false, versions = false, newest = false;
};

constexpr std::size_t kAllHits = 10'000;  // places in one file

std::uint64_t read_size(const std::string& text) {
  auto size = parse_size(text);
  if (!size)
    throw UsageError{fmt::format("--size: \"{}\" is no size; try 4096, 64K.. or 1M..2M", escape(text))};
  return *size;
}

/// "4096", "1M..", "..64K", "1M..2M".
void read_sizes(const std::string& text, FindRequest& request) {
  if (text.empty()) return;
  std::size_t dots = text.find("..");
  if (dots == std::string::npos) {
    request.least_size = request.most_size = read_size(text);
    return;
  }
  if (dots > 0) request.least_size = read_size(text.substr(0, dots));
  if (dots + 2 < text.size()) request.most_size = read_size(text.substr(dots + 2));
}

std::optional<std::int64_t> read_time(std::string_view option, const std::string& text) {
  if (text.empty()) return std::nullopt;
  auto time = parse_time(text);
  if (!time)
    throw UsageError{
        fmt::format("{}: \"{}\" is no time; try 2026-03-01 or \"2026-03-01 14:05\"", option, escape(text))};
  return to_unix_seconds(*time);
}

Bytes read_bytes(const std::string& text) {
  std::string digits;
  for (char c : text) {
    if (c != ' ') digits += c;
  }
  auto bytes = from_hex(digits);
  if (!bytes || bytes->empty())
    throw UsageError{fmt::format("--bytes: \"{}\" is not made of pairs of hexadecimal digits", escape(text))};
  return *bytes;
}

/// Makes a request of what was typed. Throws UsageError, and what reading a file to look for throws.
void read_request(Session& session, FindOptions& options) {
  FindRequest& request = options.request;
  request.selection = options.selection.selection("");
  read_sizes(options.size, request);
  request.newer = read_time("--newer", options.newer);
  request.older = read_time("--older", options.older);
  for (const std::string& text : options.texts)
    request.needles.add_text(text, options.selection.letters(), options.encodings);
  for (const std::string& bytes : options.bytes) request.needles.add_bytes(read_bytes(bytes));
  for (const std::string& digest : options.digests) {
    auto wanted = read_wanted_digest(digest);
    if (!wanted)
      throw UsageError{
          fmt::format("--digest: \"{}\" is no CRC-32, MD5, SHA-1, SHA-256 or SHA-512 in hexadecimal digits",
                      escape(digest))};
    request.digests.push_back(*wanted);
  }
  for (const std::string& like : options.likes) {
    Place place = resolve(like, session.context, Step::bytes);
    if (!place.content) throw Malformed(fmt::format("{} is a folder; --like wants a file", escape(like)));
    request.files.push_back(
        std::make_shared<WantedFile>(random_access(*place.content, session.context.spool)));
  }
  if (options.targets.empty() == options.catalogue.empty())
    throw UsageError{"find: say where to look: a PLACE, or a --catalogue"};
  bool anything = options.selection.searches() || !options.size.empty() || request.newer || request.older ||
                  !request.kinds.empty() || !request.digests.empty() || !request.files.empty() ||
                  !request.needles.empty();
  if (!anything)
    throw UsageError{
        "find: say what to look for: --match, --size, --only-kind, --newer, --older, --digest, --like, "
        "--text or --bytes"};
  request.hits_each = options.all_hits ? kAllHits : 1;
  request.sums = options.versions || options.newest;
}

class Finder {
 public:
  Finder(Session& session, const FindOptions& options)
      : session_(session), options_(options), colour_(session.output.empty() && colour_wanted(1)) {}

  void run() {
    ProgressLine line(session_);
    FindEvents events;
    events.found = [&](const FoundFile& file) {
      line.clear();
      if (options_.request.sums) {
        found_.push_back(file);
      } else {
        tell(file);
      }
    };
    events.unreadable = [&](const std::string& locator, const Error& error) {
      line.clear();
      fold_.say(Session::Tone::warning, error.what(), escape(locator), error.what());
    };
    FindTotals totals = look(events);
    line.clear();
    fold_.finish();
    if (options_.request.sums) tell_versions();
    finish(totals);
  }

 private:
  FindTotals look(const FindEvents& events) {
    if (options_.catalogue.empty())
      return find(options_.targets, options_.request, session_.context, session_.progress, events);
    std::unique_ptr<Database> database = open_catalogue(options_.catalogue, Database::Mode::read);
    return find_in_catalogue(*database, options_.request, events);
  }

  void tell(const FoundFile& file) {
    if (session_.json) return session_.data.write(json_line(file));
    session_.data.write_line(file.locator);
    if (session_.quiet) return;
    for (const ContentHit& hit : file.hits) {
      std::string place =
          hit.line > 0 ? fmt::format("line {}", grouped(hit.line)) : fmt::format("{:#x}", hit.at);
      std::string encoding = hit.encoding.empty() || hit.encoding == "UTF-8" ? "" : " (" + hit.encoding + ")";
      session_.data.write(shown("    {}{}: {}\n", styled(place, "36", colour_), encoding, hit.excerpt));
    }
  }

  void tell_versions() {
    for (const FileVersions& file : versions_of(std::move(found_))) {
      if (options_.newest) {
        if (!session_.json) session_.data.write_line(file.versions.front().copies.front());
        if (session_.json) session_.data.write(json_line(file, file.versions.front()));
        continue;
      }
      if (session_.json) {
        for (const FileVersion& version : file.versions) session_.data.write(json_line(file, version));
        continue;
      }
      tell_table(file);
    }
  }

  void tell_table(const FileVersions& file) {
    session_.data.write(shown("{}: {}\n", styled(escape(file.name), "1", colour_),
                              counted(file.versions.size(), "version", "versions")));
    using Align = TextTable::Align;
    TextTable table({{"  modified"}, {"bytes", Align::right}, {"copies", Align::right}, {"sum"}, {"in"}});
    for (const FileVersion& version : file.versions) {
      bool first = true;
      for (const std::string& copy : version.copies) {
        if (first) {
          table.add({"  " + to_text(version.modified), grouped(version.size), grouped(version.copies.size()),
                     version.sha256.substr(0, 14), escape(copy)});
        } else if (session_.verbose) {
          table.add({"", "", "", "", escape(copy)});
        }
        first = false;
      }
    }
    session_.data.write(table.text());
  }

  void finish(const FindTotals& totals) {
    if (session_.json) {
      session_.data.write(json_line(totals));
    } else {
      session_.say(
          Session::Tone::note,
          fmt::format("{} in {} of {}{}", counted(totals.found, "find", "finds"),
                      grouped(totals.targets_with), counted(totals.targets, "file", "files"),
                      totals.unreadable == 0 ? ""
                                             : fmt::format("; {} could not be looked into",
                                                           counted(totals.unreadable, "thing", "things"))));
    }
    if (totals.key_needed) session_.raise(key_needed);
    if (totals.found == 0 || totals.unreadable > 0) session_.raise(some_failed);
  }

  Session& session_;
  const FindOptions& options_;
  bool colour_;
  MessageFold fold_{session_};
  std::vector<FoundFile> found_;  // for versions
};

/// What an error that ends everything is about.
const std::string& named_first(const FindOptions& options) {
  return !options.likes.empty()       ? options.likes.front()
         : !options.catalogue.empty() ? options.catalogue
                                      : options.targets.front();
}

void add_options(Options& command, FindOptions& options) {
  command.arguments(
      "PLACE", options.targets,
      "Where to look: files, folders, or paths into containers; whatever lies in them is looked "
      "through, too",
      Options::Needed::no);
  command.text("--catalogue", options.catalogue, "DB", "Ask this catalogue; no PLACE is looked at");
  options.selection.add_to(command, SelectionOptions::With::patterns,
                           "Patterns and --text fit whatever the case of letters (ASCII)");
  command.text("--size", options.size, "RANGE", "Files of this size: 4096, 1M.., ..64K or 1M..2M");
  command.words("--only-kind", options.request.kinds,
                std::vector<std::string>(kind_names().begin(), kind_names().end()), "KIND,...",
                "Only files that are of these kinds by content");
  command.text("--newer", options.newer, "TIME",
               "Changed at this time or later: 2026-03-01, \"2026-03-01 14:05\"");
  command.text("--older", options.older, "TIME", "Changed at this time or earlier");
  command.texts("--digest", options.digests, "HEX",
                "Files of this CRC-32, MD5, SHA-1, SHA-256 or SHA-512 (repeatable: any of them)");
  command.texts("--like", options.likes, "FILE",
                "Files with the same bytes as this one, whatever their names");
  command.texts("--text", options.texts, "WORDS",
                "Files that contain this text, in UTF-8, UTF-16 or --encoding (repeatable: any of them)");
  command.texts("--encoding", options.encodings, "NAME",
                "Look for --text in this encoding, too, such as CP437");
  command.texts("--bytes", options.bytes, "HEX", "Files that contain these bytes (repeatable: any of them)");
  command.flag("--all-hits", options.all_hits, "Every place in a file, not only the first");
  command.flag("--first", options.request.first, "One file found is enough");
  command.flag("--versions", options.versions,
               "Of files of the same name which versions there are, told by their bytes, the newest first");
  command.flag("--newest", options.newest, "Only where the newest version of each name lies");
  command.at_most_one({"--versions", "--newest"});
  command.choice<Enter>(
      "--enter", options.request.enter, kEnterChoices,
      "Which files are looked at for what is in them: those that are named as containers (named), "
      "also those that are not named as something else, as texts and pictures are (likely, the "
      "default), or all");
  command.number("--depth", options.request.depth, "How many containers inside each other to go into");
  command.flag("--deep-programs", options.request.programs, "Also into programs that carry containers");
  command.number("--jobs", options.request.jobs,
                 "Files looked through at a time (0: one for each processor)");
  options.folders.add_to(command);
}

}  // namespace

void add_find(CommandLine& program, Session& session) {
  Options command = program.command({"find",
                                     "Find files across many containers, through any depth",
                                     {"operculum find backups --match 'tide.log' --versions",
                                      "operculum find shelf --recursive --text 'low water' --ignore-case"}});
  auto options = std::make_shared<FindOptions>();
  add_options(command, *options);
  command.run([&session, options] {
    prepare(session);
    try {
      Confinement confinement(session);
      confinement.reads(options->targets).reads(options->likes).asks(options->catalogue);
      if (options->catalogue.empty()) options->targets = options->folders.files(session, options->targets);
      confinement.reads_links(options->targets).begin();
      read_request(session, *options);
      Finder(session, *options).run();
    } catch (const std::exception& thrown) {
      report_error(session, named_first(*options), as_error(thrown));
    }
  });
}

}  // namespace operculum::cli
