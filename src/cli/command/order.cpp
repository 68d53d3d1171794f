#include <fmt/format.h>
#include <unistd.h>

#include <cerrno>
#include <filesystem>
#include <fstream>

#include "base/text.h"
#include "base/units.h"
#include "cli/confinement.h"
#include "cli/message_fold.h"
#include "cli/output_folders.h"
#include "cli/progress_line.h"
#include "cli/session.h"
#include "report/collection_records.h"
#include "report/order_text.h"
#include "task/folder_entries.h"
#include "task/output_place.h"
#include "task/receipt.h"

namespace operculum::cli {
namespace {

struct OrderOptions {
  std::vector<std::string> packs;
  std::string order_from, page, winners, receipt;
  std::vector<std::string> why;
  LoadingRule rule = LoadingRule::given;
  LoadingRequest request;
  bool ignore_case = false, only_conflicts = false, dry_run = false;
};

constexpr Choice<LoadingRule> kRules[] = {
    {"given", LoadingRule::given}, {"name", LoadingRule::name}, {"number", LoadingRule::number}};

/// What lies in a folder of packs: files, and folders that are packs of loose files.
std::vector<std::string> packs_in(const std::string& folder) {
  std::vector<std::string> packs;
  for (const std::string& name : names_in(folder)) {
    if (!name.starts_with('.')) packs.push_back((std::filesystem::path(folder) / name).string());
  }
  return packs;
}

/// Packs as a list names them, one a line; those without a folder lie beside the list.
std::vector<std::string> packs_listed(const std::string& list) {
  std::ifstream file(list);
  if (!file) throw IoError(fmt::format("cannot read the list {}", escape(list)), errno);
  std::filesystem::path folder = std::filesystem::path(list).parent_path();
  std::vector<std::string> packs;
  for (std::string line; std::getline(file, line);) {
    std::string name(trim(line));
    if (name.empty() || name.starts_with('#')) continue;
    std::error_code none;
    bool here = std::filesystem::exists(name, none);
    packs.push_back(here ? name : (folder / name).string());
  }
  return packs;
}

std::vector<std::string> targets_of(const OrderOptions& options) {
  std::vector<std::string> packs = options.packs;
  std::error_code none;
  if (packs.size() == 1 && std::filesystem::is_directory(packs[0], none)) packs = packs_in(packs[0]);
  if (!options.order_from.empty()) {
    std::vector<std::string> listed = packs_listed(options.order_from);
    packs.insert(packs.end(), listed.begin(), listed.end());
  }
  if (packs.empty()) throw UsageError{"order: name packs, a folder of packs, or a list with --order-from"};
  return in_loading_order(std::move(packs), options.rule);
}

class OrderReport {
 public:
  OrderReport(Session& session, const OrderOptions& options) : session_(session), options_(options) {}

  void run() {
    std::vector<std::string> targets = targets_of(options_);
    confine(targets);
    ProgressLine line(session_);
    LoadingOrder order(targets, options_.request, session_.context, session_.progress);
    line.clear();
    tell_problems(order);
    if (!options_.why.empty()) {
      for (const std::string& path : options_.why) tell_why(order, path);
    } else {
      tell_paths(order);
      tell_packs(order);
    }
    if (!options_.page.empty()) session_.write_new_file(options_.page, order_page(order), "page");
    if (!options_.winners.empty()) unpack_winners(order);
  }

 private:
  void confine(const std::vector<std::string>& targets) {
    Confinement confinement(session_);
    confinement.reads(targets).makes(options_.page);
    if (!options_.winners.empty() && !options_.dry_run) {
      confinement.makes(options_.receipt);
      winners_ = folders_.make(options_.winners, OutputFolder::Must::exist, confinement);
    }
    confinement.begin();
  }

  void tell_problems(const LoadingOrder& order) {
    for (const LoadedPack& pack : order.packs()) {
      if (!pack.error.empty()) {
        session_.raise(pack.error_kind == ErrorKind::needs_key ? key_needed : some_failed);
        session_.say(Session::Tone::warning, about(pack.target, pack.error));
        continue;
      }
      if (pack.files == 0 && pack.outside > 0)
        session_.say(Session::Tone::warning,
                     fmt::format("{}: nothing in it is beneath a --root", escape(pack.target)));
    }
  }

  void tell_why(const LoadingOrder& order, const std::string& path) {
    const ProvidedPath* found = order.find(path);
    if (found == nullptr) {
      session_.say(Session::Tone::warning, fmt::format("no pack has \"{}\"", escape(path)));
      return session_.raise(some_failed);
    }
    session_.data.write(session_.json ? json_line(order, *found) : why_text(order, *found));
  }

  void tell_paths(const LoadingOrder& order) {
    for (const auto& [key, path] : order.paths()) {
      if (options_.only_conflicts && !path.contested()) continue;
      if (session_.json) {
        session_.data.write(json_line(order, path));
        continue;
      }
      std::string losers = losers_text(order, path);
      session_.data.write(shown("{}: {}{}\n", escape(path.path), pack_name(order.packs()[path.winner().pack]),
                                losers.empty() ? "" : " " + losers));
    }
  }

  void tell_packs(const LoadingOrder& order) {
    if (session_.json) {
      for (std::size_t i = 0; i < order.packs().size(); ++i)
        session_.data.write(json_line(order.packs()[i], i));
      return;
    }
    std::uint64_t contested = 0, differing = 0;
    for (const auto& [key, path] : order.paths()) {
      contested += path.contested() ? 1 : 0;
      differing += path.differs() ? 1 : 0;
    }
    session_.data.write(shown("\n{}\n{}; {} in several packs, {} of these with other bytes.\n",
                              packs_table(order), counted(order.paths().size(), "path", "paths"),
                              grouped(contested), grouped(differing)));
  }

  void unpack_winners(LoadingOrder& order) {
    UnpackRequest request;
    request.into = options_.winners;
    request.folder = winners_;
    request.into_new = winners_ && winners_->made();
    request.dry_run = options_.dry_run;
    request.digests = !options_.receipt.empty();
    request.lower_case = options_.ignore_case;  // folders whose names differ in case alone are one
    Place place = order.merged(session_.context);
    Receipt receipt;
    receipt.source = "loading order of " + order.packs().front().target;
    MessageFold fold(session_);
    ProgressLine line(session_);
    UnpackTotals totals =
        unpack(place, request, session_.context, session_.progress, [&](const UnpackEvent& event) {
          if (request.digests) receipt.add(event);
          line.clear();
          tell(event, fold);
        });
    line.clear();
    fold.finish();
    if (request.digests && !request.dry_run) {
      receipt.folder = absolute_path(request.into);
      receipt.complete = !totals.stopped;
      receipt.write(options_.receipt);
    }
    if (totals.failed > 0 || totals.faults > 0) session_.raise(totals.key_needed ? key_needed : some_failed);
    if (totals.kept > 0 || totals.left_out > 0) session_.raise(some_failed);
    std::string_view verb = request.dry_run ? "would write" : "wrote";
    session_.say(
        Session::Tone::note,
        fmt::format("{} {} ({}) into {}{}", verb, counted(totals.files, "file", "files"),
                    human_size(totals.bytes), escape(request.into),
                    totals.kept > 0 ? fmt::format("; {} kept as they were", grouped(totals.kept)) : ""));
  }

  void tell(const UnpackEvent& event, MessageFold& fold) {
    using Kind = UnpackEvent::Kind;
    if (event.kind == Kind::failed || event.kind == Kind::fault)
      fold.say(Session::Tone::error, event.message, escape(event.path), event.message);
    if (event.kind == Kind::kept || event.kind == Kind::left_out || event.kind == Kind::warning)
      fold.say(Session::Tone::warning, event.message, escape(event.path), event.message);
  }

  Session& session_;
  const OrderOptions& options_;
  OutputFolders folders_;
  std::shared_ptr<OutputFolder> winners_;  // where they go; not in a dry run
};

}  // namespace

void add_order(CommandLine& program, Session& session) {
  Options command =
      program.command({"order",
                       "Tell which of several packs provides each path when they are loaded in order",
                       {"operculum order base.pack harbour.pack crabs.skin --only-conflicts",
                        "operculum order packs --by number --why textures/crab.ppm"}});
  auto options = std::make_shared<OrderOptions>();
  command.arguments(
      "PACK", options->packs,
      "Packs in the order in which they are loaded, the last one winning; or one folder of packs. "
      "Containers of any kind, and folders of loose files",
      Options::Needed::no);
  command.choice<LoadingRule>("--by", options->rule, kRules,
                              "Order: as given, by name, or by the last number in each name");
  command.text("--order-from", options->order_from, "FILE",
               "A list of packs, one a line, behind those given");
  command.flag("--first-wins", options->request.first_wins,
               "A path is taken from the first pack that has it");
  command.flag("--ignore-case", options->ignore_case,
               "Paths that differ in the case of letters (ASCII) are the same");
  command.texts("--root", options->request.roots, "FOLDER",
                "Only what is beneath this folder of a pack counts, without it (repeatable)");
  command.flag("--only-conflicts", options->only_conflicts, "Only paths that several packs have");
  command.texts("--why", options->why, "PATH",
                "Of this path every pack that has it, and how it stands (repeatable)");
  command.text("--page", options->page, "FILE",
               "Write an HTML page with a matrix of conflicts to this new file");
  command.text("--unpack-winners", options->winners, "DIR",
               "Unpack what the game would see into this folder");
  command.flag("--dry-run", options->dry_run, "With --unpack-winners: write nothing");
  command.text("--receipt", options->receipt, "FILE",
               "With --unpack-winners: write what was written to this new file; discard takes it back");
  command.number("--jobs", options->request.jobs, "Threads (0: one for each processor)");
  command.run([&session, options] {
    prepare(session);
    if (options->ignore_case) options->request.letters = Glob::Case::ignored;
    if (!options->receipt.empty() && access(options->receipt.c_str(), F_OK) == 0)
      throw UsageError{
          fmt::format("--receipt: {} exists already; choose a new name", escape(options->receipt))};
    try {
      OrderReport(session, *options).run();
    } catch (const std::exception& thrown) {
      report_error(session, options->packs.empty() ? options->order_from : options->packs.front(),
                   as_error(thrown));
    }
  });
}

}  // namespace operculum::cli
