#include "task/list.h"

#include <fmt/format.h>

#include <algorithm>
#include <deque>
#include <map>
#include <numeric>

#include "base/text.h"
#include "base/units.h"
#include "cli/confinement.h"
#include "cli/entry_table.h"
#include "cli/folder_options.h"
#include "cli/message_fold.h"
#include "cli/selection_options.h"
#include "cli/session.h"
#include "io/digest.h"
#include "report/records.h"
#include "report/text_table.h"
#include "report/tree_text.h"
#include "task/kinds.h"
#include "task/name_encoding.h"
#include "task/refuse_kinds.h"
#include "task/summary.h"

namespace operculum::cli {
namespace {

enum class Sort { stored_order, size, path, time, stored };

struct ListOptions {
  std::vector<std::string> targets;
  bool paths = false, tree = false, summary = false, csv = false;
  TableForm form;
  Sort sort = Sort::stored_order;
  std::vector<std::string> only_kinds;
  std::string digest;
  SelectionOptions selection;
  FolderOptions folders;
  ListRequest request;
};

constexpr Choice<Sort> kSorts[] = {
    {"size", Sort::size}, {"path", Sort::path}, {"time", Sort::time}, {"stored", Sort::stored}};

/// An entry that is kept for sorting.
struct Kept {
  Entry entry;
  std::string path, digest;
  std::string_view kind;
  const Format* format;
  std::shared_ptr<Container> container;
};

std::vector<std::string> csv_titles(const ListOptions& options, bool several) {
  std::vector<std::string> titles = {"path", "kind", "size",  "stored",     "method",
                                     "time", "mode", "flags", "link_target"};
  if (several) titles.insert(titles.begin(), "container");
  if (options.request.kinds) titles.emplace_back("content");
  if (!options.digest.empty()) titles.push_back(options.digest);
  return titles;
}

std::vector<std::string> csv_cells(const Found& found, const ListOptions& options) {
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
  if (options.request.kinds) cells.emplace_back(found.kind);
  return cells;
}

/// Prints the listing of one target in the form that was asked for.
class Listing {
 public:
  Listing(Session& session, ListOptions& options, const std::string& target, bool several)
      : session_(session),
        options_(options),
        target_(target),
        several_(several),
        table_(session, options.form) {}

  void run() {
    Place place = resolve(target_, session_.context, Step::into);
    if (place.layers.empty()) {
      if (options_.selection.searches() && several_) return;  // a search passes over what is no container
      throw Malformed(session_.search ? std::string("no containers were found anywhere in it")
                                      : no_container_text(place, "; `operculum identify` tells what it is"));
    }
    ListRequest request = options_.request;
    request.selection = options_.selection.selection(place.inside);
    if (place.layers.back().format->single_stream) request.selection.inside.clear();
    auto findings = [&](const std::string& path, const Finding& finding) { tell(path, finding); };
    if (options_.summary) return print_summary(summarise(place, request, session_.context, findings));
    if (options_.paths && options_.sort == Sort::stored_order && !several_ && options_.only_kinds.empty()) {
      auto print = [this](const std::string& path) { session_.data.write_line(path); };
      return list_paths(place, request, session_.context, print, findings);
    }
    list(
        place, request, session_.context, [this](const Found& found) { take(found); }, findings);
    finish();
  }

 private:
  bool is_table() const {
    return !session_.json && !options_.paths && !options_.tree && !options_.csv && options_.digest.empty();
  }

  void take(const Found& found) {
    const Entry& entry = found.entry;
    if (!options_.only_kinds.empty() && (!entry.has_data() || !is_kind_of(found.kind, options_.only_kinds)))
      return;
    tally_.add(entry);
    if (session_.context.names_in.empty()) names_.look(entry.path);
    if (options_.tree) {
      std::string note =
          entry.has_data() && entry.size_known() ? fmt::format("  {}", human_size(entry.size)) : "";
      if (!entry.link_target().empty()) note = fmt::format(" -> {}", escape(entry.link_target()));
      session_.context.limits.count_retained(tree_.add(found.path, entry.kind == EntryKind::folder, note));
      return;
    }
    std::string digest = options_.digest.empty() || !entry.has_data() ? "" : digest_of(found);
    if (options_.sort == Sort::stored_order) return print(found, digest);
    keep(found, digest);
  }

  /// What an entry's line needs, and no more: there may be millions.
  void keep(const Found& found, const std::string& digest) {
    Kept kept{copy_of(found.entry), found.path,    digest,
              found.kind,           &found.format, found.container.shared_from_this()};
    kept.entry.path = {};  // the line has the whole path
    bool all = session_.json || options_.form.full || found.format.family == "partition table";
    if (!all && kept.entry.link_target().empty()) kept.entry.extra.reset();
    session_.context.limits.count_retained(memory_of(kept.entry) + kept.path.size() + sizeof(Kept));
    kept_.push_back(std::move(kept));
  }

  /// Of the unpacked bytes; empty when they cannot be had, which is told.
  std::string digest_of(const Found& found) {
    try {
      StreamPtr own = found.stream == nullptr ? found.content->stream() : nullptr;
      return stream_digest(own ? *own : *found.stream, options_.digest);
    } catch (const GuardTripped&) {
      throw;
    } catch (const std::exception& thrown) {
      tell(found.path, {Finding::Level::fault, as_error(thrown).what()});
      return "";
    }
  }

  /// Prints what stands in front of a listing when there are several: once, and only when something fits.
  void begin() {
    if (begun_) return;
    begun_ = true;
    if (several_ && (is_table() || options_.tree))
      session_.data.write(styled(escape(target_), "1", session_.output.empty() && colour_wanted(1)) + "\n");
  }

  void print(const Found& found, const std::string& digest) {
    begin();
    std::string container = several_ ? target_ : "";
    if (session_.json) {
      session_.data.write(json_line(found, container, options_.digest, digest));
    } else if (options_.csv) {
      std::vector<std::string> cells = csv_cells(found, options_);
      if (several_) cells.insert(cells.begin(), escape(target_));
      if (!options_.digest.empty()) cells.push_back(digest);
      session_.data.write(csv_line(cells));
    } else if (options_.paths || !options_.digest.empty()) {
      std::string path = several_ ? target_ + "/" + found.path : found.path;
      if (!options_.digest.empty()) {
        if (found.entry.has_data()) session_.data.write(shown("{}  {}\n", digest, escape(path)));
      } else {
        session_.data.write_line(path);
      }
    } else {
      table_.add(found);
    }
  }

  /// Sizes and times sort from the largest and newest down, paths up.
  void finish() {
    if (options_.tree && !tree_.empty()) {
      begin();
      tree_.draw([&](const Shown& line) { session_.data.write(line); });
    }
    auto size = [](const Entry& entry) { return entry.size_known() ? entry.size : 0; };
    std::vector<std::size_t> order(kept_.size());  // sorting what is kept itself would want room for it twice
    std::iota(order.begin(), order.end(), std::size_t{0});
    std::stable_sort(order.begin(), order.end(), [&](std::size_t i, std::size_t j) {
      const Kept &a = kept_[i], &b = kept_[j];
      switch (options_.sort) {
        case Sort::size:
          return size(a.entry) > size(b.entry);
        case Sort::stored:
          return a.entry.stored_size > b.entry.stored_size;
        case Sort::time:
          return a.entry.modified.seconds > b.entry.modified.seconds;
        default:
          return a.path < b.path;
      }
    });
    for (std::size_t i : order) {
      const Kept& kept = kept_[i];
      Found found{kept.entry, kept.path, *kept.format, *kept.container, false, 0, nullptr,
                  nullptr,    0,         kept.kind};
      print(found, kept.digest);
    }
    table_.finish();
    if (is_table() && (begun_ || !options_.selection.searches()))
      session_.data.write(
          shown("{}: {}{}\n", counts_text(tally_),
                options_.form.human ? human_size(tally_.bytes) : grouped(tally_.bytes) + " bytes",
                several_ ? Shown("\n") : Shown()));
  }

  void print_summary(const Summary& summary) {
    if (session_.json) return session_.data.write(json_line(summary, several_ ? target_ : ""));
    begin();
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
    session_.data.write(shown("{}; {} unpacked, {} stored{}\n", counts_text(summary.counts),
                              human_size(summary.all.bytes), human_size(summary.stored_bytes), ratio));
  }

  void tell(const std::string& path, const Finding& finding) {
    std::string where = path.empty() ? escape(target_) : fmt::format("{}/{}", escape(target_), escape(path));
    auto tone = finding.level == Finding::Level::note ? Session::Tone::note : Session::Tone::warning;
    fold_.say(tone, finding.text, where, finding.text);
    if (finding.level == Finding::Level::fault) session_.raise(some_failed);
  }

 public:
  ~Listing() {
    fold_.finish();
    if (std::string hint = names_.hint(); !hint.empty())
      session_.say(Session::Tone::note, fmt::format("{}: {}", escape(target_), hint));
  }
  Listing(const Listing&) = delete;
  Listing& operator=(const Listing&) = delete;

 private:
  Session& session_;
  ListOptions& options_;
  const std::string& target_;
  bool several_;
  EntryTable table_;
  MessageFold fold_{session_};
  std::deque<Kept> kept_;
  TreeText tree_;
  Counts tally_;
  NameEncoding names_;
  bool begun_ = false;
};

}  // namespace

void add_list(CommandLine& program, Session& session) {
  Options command = program.command(
      {"list",
       "List what is inside",
       {"operculum list tidepool.skin", "operculum list --deep --match '*.lua' --paths exhibit-7.tar.xz"}});
  auto options = std::make_shared<ListOptions>();
  command.arguments("TARGET", options->targets,
                    "Containers, or folders in them; a folder on disk stands for its files");
  command.flag("--paths", options->paths, "Only paths, one a line, nothing else");
  command.flag("--tree", options->tree, "As a tree");
  command.flag("--summary", options->summary,
               "By kind (told from content) and by folder: count, bytes, largest");
  command.flag("--csv", options->csv, "As CSV (docs/output.md)");
  command.at_most_one({"--paths", "--tree", "--summary", "--csv"});
  command.choice<Sort>("--sort", options->sort, kSorts,
                       "By size, path, time or stored (size) instead of stored order");
  command.flag("--human", options->form.human, "Sizes with units");
  command.flag("--long", options->form.full, "Every column, with mode and owner");
  command.flag("--kinds", options->request.kinds,
               "With what each file is by content: image, sound, script, ...");
  command.words("--only-kind", options->only_kinds,
                std::vector<std::string>(kind_names().begin(), kind_names().end()), "KIND,...",
                "Only files that are of these kinds by content");
  command.choice_by_word("--digest", {"md5", "sha1", "sha256", "sha512", "crc32"},
                         "The digest of each file's bytes, and its path",
                         [options](std::string_view word) { options->digest = word; });
  command.flag("--deep", options->request.deep, "Into nested containers, too");
  command.flag("--deep-programs", options->request.programs,
               "With --deep, also into programs that carry containers");
  options->folders.add_to(command);
  options->selection.add_to(command, SelectionOptions::With::patterns_and_list);
  command.run([&session, options] {
    prepare(session);
    options->form.kinds = options->request.kinds |= !options->only_kinds.empty();
    options->request.contents = !options->digest.empty();
    std::vector<std::string> targets = options->folders.files(session, options->targets);
    options->selection.selection("");  // reads the list, which may lie anywhere
    Confinement(session).reads(options->targets).reads_links(targets).begin();
    bool several = targets.size() > 1;
    session.context.once = !several && !session.search;
    if (options->csv) session.data.write(csv_line(csv_titles(*options, several)));
    for (const std::string& target : targets) {
      try {
        Listing(session, *options, target, several).run();
      } catch (const std::exception& thrown) {
        Error error = as_error(thrown);
        session.data.flush();
        report_error(session, target, error);
      }
    }
    options->selection.tell_unfitted(session);
  });
}

}  // namespace operculum::cli
