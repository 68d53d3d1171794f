#include "task/list.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "base/text.h"
#include "base/units.h"
#include "cli/selection_options.h"
#include "cli/session.h"
#include "report/records.h"
#include "report/text_table.h"
#include "report/tree_text.h"
#include "task/summary.h"

namespace operculum::cli {
namespace {

enum class Sort { stored_order, size, path, time, stored };

struct ListOptions {
  std::vector<std::string> targets;
  bool paths = false, tree = false, summary = false, csv = false, human = false;
  Sort sort = Sort::stored_order;
  SelectionOptions selection;
  ListRequest request;
};

constexpr Choice<Sort> kSorts[] = {
    {"size", Sort::size}, {"path", Sort::path}, {"time", Sort::time}, {"stored", Sort::stored}};

constexpr std::size_t kSizeWidth = 15, kMethodWidth = 10, kTimeWidth = 20, kFlagsWidth = 5, kKindWidth = 10;

/// What is kept of an entry when it must be sorted: the line, and what it is sorted by.
struct Row {
  std::string path, line;
  std::uint64_t size, stored;
  std::int64_t time;
};

std::string size_text(std::uint64_t size, bool human) {
  if (size == Entry::kUnknownSize) return "?";
  return human ? human_size(size) : grouped(size);
}

/// A letter a flag: e encrypted, s sparse, d damaged, r recovered; F folder, L link, H hard link, D device.
std::string flag_letters(const Entry& entry) {
  std::string letters;
  switch (entry.kind) {
    case EntryKind::file:
      break;
    case EntryKind::folder:
      letters += 'F';
      break;
    case EntryKind::symbolic_link:
      letters += 'L';
      break;
    case EntryKind::hard_link:
      letters += 'H';
      break;
    default:
      letters += 'D';
      break;
  }
  for (std::string_view word : flag_words(entry)) letters += word[0];
  return letters.empty() ? "-" : letters;
}

std::string shown_path(const Found& found) {
  std::string path = escape(found.path);
  if (found.entry.kind == EntryKind::folder) path += '/';
  if (found.format.family == "partition table" && found.entry.extra) {
    path += fmt::format("  {}", escape(found.entry.extra->type_tag));
    if (!found.entry.extra->comment.empty())
      path += fmt::format(" \"{}\"", escape(found.entry.extra->comment));
  }
  if (!found.entry.link_target().empty()) path += fmt::format(" -> {}", escape(found.entry.link_target()));
  return path;
}

std::string table_head(bool kinds) {
  using Align = TextTable::Align;
  return fmt::format("{}  {}  {}  {}  {}  {}{}\n", padded("size", kSizeWidth, Align::right),
                     padded("stored", kSizeWidth, Align::right), padded("method", kMethodWidth),
                     padded("time", kTimeWidth), padded("flags", kFlagsWidth),
                     kinds ? padded("kind", kKindWidth) + "  " : "", "path");
}

std::string table_line(const Found& found, bool human, bool kinds) {
  const Entry& entry = found.entry;
  bool data = entry.has_data();
  return fmt::format(
      "{:>{}}  {:>{}}  {:<{}}  {:<{}}  {:<{}}  {}{}\n", data ? size_text(entry.size, human) : "-", kSizeWidth,
      data ? size_text(entry.stored_size, human) : "-", kSizeWidth, data ? entry.method : "-", kMethodWidth,
      to_text(entry.modified), kTimeWidth, flag_letters(entry), kFlagsWidth,
      kinds ? fmt::format("{:<{}}  ", data ? found.kind : "-", kKindWidth) : "", shown_path(found));
}

std::string csv_row(const Found& found, bool kinds) {
  const Entry& entry = found.entry;
  auto size = [&](std::uint64_t value) {
    return !entry.has_data() || value == Entry::kUnknownSize ? "" : std::to_string(value);
  };
  std::vector<std::string> cells = {escape(found.path),
                                    std::string(name_of(entry.kind)),
                                    size(entry.size),
                                    size(entry.stored_size),
                                    entry.has_data() ? std::string(entry.method) : "",
                                    to_rfc3339(entry.modified),
                                    entry.mode == Entry::kNoMode ? "" : fmt::format("{:04o}", entry.mode),
                                    fmt::format("{}", fmt::join(flag_words(entry), " ")),
                                    escape(entry.link_target())};
  if (kinds) cells.emplace_back(found.kind);
  return csv_line(cells);
}

/// Prints one listing in the form that was asked for.
class Listing {
 public:
  Listing(Session& session, const ListOptions& options) : session_(session), options_(options) {}

  void run(const std::string& target) {
    Place place = resolve(target, session_.context, Step::into);
    if (place.layers.empty())
      throw Malformed("it is no container that this program knows; `operculum identify` tells what it is");
    ListRequest request = options_.request;
    request.selection = options_.selection.selection(place.inside);
    if (place.layers.back().format->single_stream) request.selection.inside.clear();
    auto findings = [&](const std::string& path, const Finding& finding) { tell(target, path, finding); };
    if (options_.summary) return print_summary(summarise(place, request, session_.context, findings));
    if (options_.paths && options_.sort == Sort::stored_order) {
      auto print = [this](const std::string& path) { session_.data.write_line(path); };
      return list_paths(place, request, session_.context, print, findings);
    }
    bool table = !session_.json && !options_.paths && !options_.tree && !options_.csv;
    if (table)
      session_.data.write(
          styled(table_head(request.kinds), "1", session_.output.empty() && colour_wanted(1)));
    if (options_.csv) {
      std::vector<std::string> titles = {"path", "kind", "size",  "stored",     "method",
                                         "time", "mode", "flags", "link_target"};
      if (request.kinds) titles.emplace_back("content");
      session_.data.write(csv_line(titles));
    }
    list(
        place, request, session_.context, [this](const Found& found) { take(found); }, findings);
    finish();
    if (table) print_totals();
  }

 private:
  void take(const Found& found) {
    const Entry& entry = found.entry;
    if (entry.kind == EntryKind::folder) {
      ++folders_;
    } else {
      ++files_;
    }
    if (entry.has_data() && entry.size_known()) bytes_ += entry.size;
    if (options_.tree) {
      std::string note = entry.has_data() ? fmt::format("  {}", size_text(entry.size, true)) : "";
      if (!entry.link_target().empty()) note = fmt::format(" -> {}", escape(entry.link_target()));
      tree_.push_back({found.path, entry.kind == EntryKind::folder, std::move(note)});
      return;
    }
    std::string line = line_of(found);
    if (options_.sort == Sort::stored_order) {
      session_.data.write(line);
    } else {
      rows_.push_back({found.path, std::move(line), entry.size_known() ? entry.size : 0, entry.stored_size,
                       entry.modified.seconds});
    }
  }

  std::string line_of(const Found& found) const {
    if (session_.json) return json_line(found);
    if (options_.csv) return csv_row(found, options_.request.kinds);
    if (options_.paths) return escape(found.path) + '\n';
    return table_line(found, options_.human, options_.request.kinds);
  }

  /// Sizes and times sort from the largest and newest down, paths up.
  void finish() {
    if (options_.tree) session_.data.write(tree_text(tree_));
    std::stable_sort(rows_.begin(), rows_.end(), [this](const Row& a, const Row& b) {
      switch (options_.sort) {
        case Sort::size:
          return a.size > b.size;
        case Sort::stored:
          return a.stored > b.stored;
        case Sort::time:
          return a.time > b.time;
        default:
          return a.path < b.path;
      }
    });
    for (const Row& row : rows_) session_.data.write(row.line);
  }

  void print_totals() {
    session_.data.write(fmt::format("{:>{}}  {}, {}\n", size_text(bytes_, options_.human), kSizeWidth,
                                    counted(files_, "file", "files"),
                                    counted(folders_, "folder", "folders")));
  }

  void print_summary(const Summary& summary) {
    if (session_.json) return session_.data.write(json_line(summary));
    auto table = [&](const char* title, const std::map<std::string, Tally>& tallies) {
      using Align = TextTable::Align;
      TextTable text({{title},
                      {"files", Align::right},
                      {"bytes", Align::right},
                      {"largest", Align::right},
                      {"largest file"}});
      for (const auto& [name, tally] : tallies) {
        text.add({escape(name), grouped(tally.count), human_size(tally.bytes),
                  human_size(tally.largest_bytes), escape(tally.largest)});
      }
      session_.data.write(text.text() + "\n");
    };
    table("kind", summary.by_kind);
    table("folder", summary.by_folder);
    std::string ratio = summary.all.bytes > 0
                            ? fmt::format(", {:.0f} %", 100.0 * static_cast<double>(summary.stored_bytes) /
                                                            static_cast<double>(summary.all.bytes))
                            : "";
    session_.data.write(
        fmt::format("{}, {} unpacked, {} stored{}; {}, {}\n", counted(summary.all.count, "file", "files"),
                    human_size(summary.all.bytes), human_size(summary.stored_bytes), ratio,
                    counted(summary.folders, "folder", "folders"), counted(summary.links, "link", "links")));
  }

  void tell(const std::string& target, const std::string& path, const Finding& finding) {
    std::string where = path.empty() ? escape(target) : fmt::format("{}/{}", escape(target), escape(path));
    auto tone = finding.level == Finding::Level::note ? Session::Tone::note : Session::Tone::warning;
    session_.say(tone, fmt::format("{}: {}", where, finding.text));
    if (finding.level == Finding::Level::fault) session_.raise(some_failed);
  }

  Session& session_;
  const ListOptions& options_;
  std::vector<Row> rows_;
  std::vector<TreeLine> tree_;
  std::uint64_t files_ = 0, folders_ = 0, bytes_ = 0;
};

}  // namespace

void add_list(CommandLine& program, Session& session) {
  Options command = program.command(
      {"list",
       "List what is inside",
       {"operculum list tidepool.skin", "operculum list --deep --match '*.lua' --paths exhibit-7.tar.xz"}});
  auto options = std::make_shared<ListOptions>();
  command.arguments("TARGET", options->targets, "Containers, or folders in them");
  command.flag("--paths", options->paths, "Only paths, one a line, nothing else");
  command.flag("--tree", options->tree, "As a tree");
  command.flag("--summary", options->summary,
               "By kind (told from content) and by folder: count, bytes, largest");
  command.flag("--csv", options->csv, "As CSV (docs/output.md)");
  command.at_most_one({"--paths", "--tree", "--summary", "--csv"});
  command.choice<Sort>("--sort", options->sort, kSorts,
                       "By size, path, time or stored (size) instead of stored order");
  command.flag("--human", options->human, "Sizes with units");
  command.flag("--kinds", options->request.kinds,
               "With what each file is by content: image, sound, script, ...");
  command.flag("--deep", options->request.deep, "Into nested containers, too");
  options->selection.add_to(command, SelectionOptions::With::patterns);
  command.run([&session, options] {
    prepare(session);
    for (const std::string& target : options->targets) {
      try {
        Listing(session, *options).run(target);
      } catch (const std::exception& thrown) {
        Error error = as_error(thrown);
        session.data.flush();
        report_error(session, target, error);
      }
    }
  });
}

}  // namespace operculum::cli
