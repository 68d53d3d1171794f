#include <fmt/format.h>

#include <cerrno>
#include <filesystem>

#include "base/text.h"
#include "base/units.h"
#include "cli/confinement.h"
#include "cli/folder_options.h"
#include "cli/message_fold.h"
#include "cli/progress_line.h"
#include "collection/catalogue/merge.h"
#include "collection/catalogue/update.h"
#include "report/collection_records.h"
#include "report/overview_text.h"
#include "task/places.h"

namespace operculum::cli {
namespace {

struct CatalogueOptions {
  std::string database;
  std::vector<std::string> places;
  std::string shard;
  CatalogueRequest request;
};

/// "2/8": the second of eight.
Shard read_shard(const std::string& text) {
  if (text.empty()) return {};
  std::size_t slash = text.find('/');
  auto index = parse_number(text.substr(0, slash));
  auto count = slash == std::string::npos ? std::nullopt : parse_number(text.substr(slash + 1));
  if (!index || !count || *index == 0 || *index > *count)
    throw UsageError{fmt::format("--shard: \"{}\" is no share; try 1/8 to 8/8", escape(text))};
  return {*index, *count};
}

/// A catalogue in the folder that is catalogued is no part of it.
bool belongs_to(const std::string& file, const std::string& database) {
  return file == database || file == database + "-wal" || file == database + "-shm";
}

void update(Session& session, CatalogueOptions& options) {
  options.request.shard = read_shard(options.shard);
  std::vector<std::string> places;
  for (const std::string& place : options.places) places.push_back(catalogued_path(place));
  for (const std::string& place : places) {
    std::error_code none;
    if (!std::filesystem::exists(place, none)) throw IoError(escape(place), ENOENT);
  }
  std::vector<std::string> files = expanded(places, Subfolders::yes).files;
  Confinement(session).reads(places).reads_links(files).asks(options.database).begin();
  std::unique_ptr<Database> database = open_catalogue(options.database, Database::Mode::create);
  std::string own = catalogued_path(options.database);
  std::erase_if(files, [&](const std::string& file) { return belongs_to(file, own); });
  MessageFold fold(session);
  ProgressLine line(session);
  CatalogueTotals totals =
      update_catalogue(*database, places, std::move(files), options.request, session.context,
                       session.progress, [&](const std::string& path, const std::string& sentence) {
                         line.clear();
                         fold.say(Session::Tone::warning, sentence, escape(path), sentence);
                       });
  line.clear();
  fold.finish();
  if (totals.faulty > 0) session.raise(some_failed);
  if (session.json) return session.data.write(json_line(totals));
  Shown text = shown("{}: {}, {} unchanged, {} read ({})", escape(options.database),
                     counted(totals.files, "file", "files"), grouped(totals.unchanged), grouped(totals.read),
                     counted(totals.entries, "entry", "entries"));
  if (totals.verified > 0) text += shown(", {} verified", grouped(totals.verified));
  if (totals.gone > 0) text += shown(", {} gone", grouped(totals.gone));
  if (totals.faulty > 0) text += shown(", {} faulty", grouped(totals.faulty));
  session.data.write(text + "\n");
  if (totals.stopped)
    session.say(Session::Tone::warning, "the same command goes on where this one was interrupted");
}

void add_report(CommandLine& program, Session& session) {
  struct ReportOptions {
    std::string database, page;
    bool csv = false;
    std::uint64_t most = 10;
  };
  Options command = program.command_within(
      "catalogue",
      {"report",
       "Tell what a catalogue says of the collection: copies and what they cost, damage, what nothing opens",
       {"operculum catalogue report shelf.db", "operculum catalogue report shelf.db --page shelf.html"}},
      CommandLine::Outer::stands_alone);
  auto options = std::make_shared<ReportOptions>();
  command.argument("DB", options->database, "The catalogue");
  command.flag("--csv", options->csv, "As CSV");
  command.text("--page", options->page, "FILE", "Write an HTML page with figures to this new file");
  command.number("--rows", options->most, "Most rows of each table (10)");
  command.run([&session, options] {
    prepare(session);
    Confinement(session).asks(options->database).makes(options->page).begin();
    try {
      std::unique_ptr<Database> database = open_catalogue(options->database, Database::Mode::read);
      Overview overview = overview_of(*database, options->most);
      session.data.write(session.json   ? json_line(overview)
                         : options->csv ? overview_csv(overview)
                                        : overview_text(overview));
      if (!options->page.empty())
        session.write_new_file(options->page, overview_page(overview, options->database), "page");
    } catch (const std::exception& thrown) {
      report_error(session, options->database, as_error(thrown));
    }
  });
}

void add_merge(CommandLine& program, Session& session) {
  struct MergeOptions {
    std::string database;
    std::vector<std::string> others;
  };
  Options command = program.command_within("catalogue",
                                           {"merge",
                                            "Take over what other catalogues know, such as those of shards",
                                            {"operculum catalogue merge shelf.db shard-1.db shard-2.db",
                                             "operculum catalogue merge all.db hall.db office.db"}},
                                           CommandLine::Outer::stands_alone);
  auto options = std::make_shared<MergeOptions>();
  command.argument("DB", options->database, "The catalogue that takes them; made when it is not there");
  command.arguments("OTHER", options->others, "Catalogues, which stay as they are");
  command.run([&session, options] {
    prepare(session);
    Confinement confinement(session);
    for (const std::string& other : options->others) confinement.asks(other);
    confinement.asks(options->database).begin();
    std::unique_ptr<Database> database;
    try {
      database = open_catalogue(options->database, Database::Mode::create);
    } catch (const std::exception& thrown) {
      return report_error(session, options->database, as_error(thrown));
    }
    CatalogueMerge merge(*database);
    for (const std::string& other : options->others) {
      try {
        MergeTotals totals = merge.take(other);
        session.data.write(session.json
                               ? json_line(other, totals)
                               : shown("{}: {} taken ({}), {} known better already\n", escape(other),
                                       counted(totals.files, "file", "files"),
                                       counted(totals.entries, "entry", "entries"), grouped(totals.kept)));
        session.data.flush();  // the next one may take minutes
      } catch (const std::exception& thrown) {
        report_error(session, other, as_error(thrown));
      }
    }
    try {
      if (merge.lacks_indexes()) session.say(Session::Tone::note, "all are taken; now the indexes are made");
      merge.finish();
    } catch (const std::exception& thrown) {
      report_error(session, options->database, as_error(thrown));
    }
  });
}

}  // namespace

void add_catalogue(CommandLine& program, Session& session) {
  Options command =
      program.command({"catalogue",
                       "Keep a catalogue of a collection, which answers find, compare and reports at once",
                       {"operculum catalogue shelf.db backups packs",
                        "operculum catalogue shelf.db backups --verify --digests"}});
  auto options = std::make_shared<CatalogueOptions>();
  command.argument("DB", options->database, "The catalogue, an SQLite file; made when it is not there",
                   Options::Needed::no);
  command.arguments("PLACE", options->places, "Files, and folders with all that lies in them",
                    Options::Needed::no);
  command.flag("--digests", options->request.digests,
               "Take the SHA-256 of every entry, which decodes everything");
  command.flag("--verify", options->request.verify,
               "Decode and check all that was not verified since it changed");
  command.flag("--anew", options->request.anew,
               "Also read files again that are unchanged by size, time and inode");
  command.flag("--deep-programs", options->request.programs, "Also into programs that carry containers");
  command.choice<Enter>(
      "--enter", options->request.enter, kEnterChoices,
      "Which entries are looked at for what is in them: named, likely (the default) or all; as find");
  command.text("--shard", options->shard, "I/N",
               "Only the I-th of N shares of the files, the same each time");
  command.number("--jobs", options->request.jobs, "Files read at a time (0: one for each processor)");
  command.run([&session, options] {
    if (options->database.empty() || options->places.empty())
      throw UsageError{
          "catalogue: name the catalogue, and what it is to know: operculum catalogue shelf.db FOLDER"};
    prepare(session);
    try {
      update(session, *options);
    } catch (const std::exception& thrown) {
      report_error(session, options->database, as_error(thrown));
    }
  });
  add_report(program, session);
  add_merge(program, session);
}

}  // namespace operculum::cli
