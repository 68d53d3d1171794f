#include "task/unpack.h"

#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <climits>

#include "base/text.h"
#include "base/units.h"
#include "cli/progress_line.h"
#include "cli/selection_options.h"
#include "cli/session.h"
#include "io/origin.h"
#include "report/records.h"
#include "task/kinds.h"
#include "task/receipt.h"

namespace operculum::cli {
namespace {

struct UnpackOptions {
  std::vector<std::string> targets;
  std::string receipt;
  bool portable_names = false;
  bool clear_origin = false;
  SelectionOptions selection;
  UnpackRequest request;
};

constexpr Choice<Existing> kExisting[] = {
    {"keep", Existing::keep}, {"replace", Existing::replace}, {"rename", Existing::rename}};
constexpr Choice<LinkRule> kLinks[] = {{"rooted", LinkRule::rooted},
                                       {"inside", LinkRule::inside},
                                       {"stored", LinkRule::stored},
                                       {"none", LinkRule::none}};

/// A new folder named after the container, in the current one: "tidepool.skin" gives "tidepool", then
/// "tidepool~2".
std::string folder_for(const Place& place) {
  std::string name = make_safe(base_name(place.file), NameRules::here).path;
  auto is_layer_ending = [](std::string_view ending) {
    return format_for_name("x" + std::string(ending)) != nullptr;
  };
  bool first = true;
  for (std::size_t dot = name.rfind('.'); dot != std::string::npos && dot > 0; dot = name.rfind('.')) {
    if (!first && !is_layer_ending(std::string_view(name).substr(dot))) break;
    name.resize(dot);
    first = false;
  }
  struct stat status {};
  if (first || name.empty()) name += "-unpacked";
  std::string folder = name;
  for (unsigned number = 2; lstat(folder.c_str(), &status) == 0; ++number)
    folder = fmt::format("{}~{}", name, number);
  return folder;
}

std::string absolute(const std::string& folder) {
  if (folder.starts_with('/')) return folder;
  char current[PATH_MAX];
  return getcwd(current, sizeof current) == nullptr ? folder : fmt::format("{}/{}", current, folder);
}

/// What happened, as text: problems always; each file when verbose or in a dry run.
class UnpackReport {
 public:
  UnpackReport(Session& session, ProgressLine& line, const UnpackOptions& options)
      : session_(session), line_(line), options_(options) {}

  void take(const UnpackEvent& event) {
    if (session_.json) {
      session_.data.write(json_line(event));
      return;
    }
    std::string path = escape(event.path);
    switch (event.kind) {
      case UnpackEvent::Kind::file:
      case UnpackEvent::Kind::folder:
      case UnpackEvent::Kind::link:
      case UnpackEvent::Kind::device:
        written(event, path);
        break;
      case UnpackEvent::Kind::kept:
        say(Session::Tone::warning, fmt::format("{}: not written, {}", escape(event.output), event.message));
        break;
      case UnpackEvent::Kind::left_out:
        say(Session::Tone::warning, fmt::format("{}: left out, {}", path, event.message));
        break;
      case UnpackEvent::Kind::failed:
        say(Session::Tone::error, fmt::format("{}: {}{}", path, event.message, fate_of(event)));
        break;
      case UnpackEvent::Kind::note:
        say(Session::Tone::note, event.message);
        break;
      case UnpackEvent::Kind::warning:
        say(Session::Tone::warning,
            path.empty() ? event.message : fmt::format("{}: {}", path, event.message));
        break;
      case UnpackEvent::Kind::fault:
        say(Session::Tone::error, path.empty() ? event.message : fmt::format("{}: {}", path, event.message));
        break;
    }
  }

 private:
  static std::string_view fate_of(const UnpackEvent& event) {
    return event.error == ErrorKind::malformed ? "; kept out of the output" : "; not written";
  }

  void written(const UnpackEvent& event, const std::string& path) {
    std::string output = escape(event.output);
    if (!event.message.empty())
      say(Session::Tone::note, fmt::format("{}: written as {} ({})", path, output, event.message));
    if (!options_.request.dry_run && !session_.verbose) return;
    std::string mark = event.kind == UnpackEvent::Kind::folder ? "/" : "";
    std::string size =
        event.kind == UnpackEvent::Kind::file ? fmt::format("  {}", human_size(event.size)) : "";
    session_.data.write(fmt::format("{}{}{}\n", output, mark, size));
  }

  void say(Session::Tone tone, const std::string& sentence) {
    line_.clear();
    session_.say(tone, sentence);
  }

  Session& session_;
  ProgressLine& line_;
  const UnpackOptions& options_;
};

std::string totals_text(const UnpackTotals& totals, const UnpackRequest& request) {
  std::string text = fmt::format("{} ({})", counted(totals.files, "file", "files"), human_size(totals.bytes));
  if (totals.folders > 0) text += fmt::format(", {}", counted(totals.folders, "folder", "folders"));
  if (totals.links > 0) text += fmt::format(", {}", counted(totals.links, "link", "links"));
  text = request.dry_run
             ? fmt::format("would write {} into {}; nothing was written", text, escape(request.into))
             : fmt::format("wrote {} into {}", text, escape(request.into));
  if (totals.kept > 0) text += fmt::format("; {} kept as they were", grouped(totals.kept));
  if (totals.left_out > 0) text += fmt::format("; {} left out", grouped(totals.left_out));
  if (totals.failed > 0) text += fmt::format("; {} failed", grouped(totals.failed));
  return text;
}

void unpack_one(Session& session, const UnpackOptions& options, const std::string& target, bool several) {
  Place place = resolve(target, session.context, Step::into);
  if (place.layers.empty())
    throw Malformed("it is no container that this program knows; `operculum identify` tells what it is");
  UnpackRequest request = options.request;
  bool single = place.layers.back().format->single_stream;
  request.selection = options.selection.selection(single ? "" : place.inside);
  std::string own = folder_for(place);
  if (request.into.empty()) {
    request.into = own;
  } else if (several) {
    request.into += "/" + own;
  }
  while (request.into.size() > 1 && request.into.ends_with('/')) request.into.pop_back();
  request.digests = !options.receipt.empty();
  if (!options.clear_origin) request.origin = origin_of(place.file).value_or("");
  Receipt receipt;
  receipt.source = target;
  receipt.folder = absolute(request.into);

  ProgressLine line(session);
  UnpackReport report(session, line, options);
  auto keep_receipt = [&] {
    if (!options.receipt.empty() && !request.dry_run) receipt.write(options.receipt);
  };
  UnpackTotals totals;
  try {
    totals = unpack(place, request, session.context, session.progress, [&](const UnpackEvent& event) {
      if (request.digests) receipt.add(event);
      report.take(event);
    });
  } catch (const std::exception&) {
    keep_receipt();  // what was written before is to be taken back, too
    throw;
  }
  keep_receipt();
  line.clear();
  if (totals.failed > 0 || totals.faults > 0) session.raise(totals.key_needed ? key_needed : some_failed);
  if (totals.left_out > 0) session.raise(some_failed);
  if (session.json) {
    session.data.write(json_line(totals, request.dry_run));
    return;
  }
  session.data.flush();  // the plan before what is said of it
  if (totals.not_portable > 0) {
    session.say(Session::Tone::note,
                fmt::format("{} would be refused by other systems; --portable-names changes them",
                            counted(totals.not_portable, "name", "names")));
  }
  if (totals.files + totals.folders + totals.links + totals.kept + totals.left_out + totals.failed == 0) {
    session.say(Session::Tone::warning, "nothing fits; `operculum list --paths` shows what there is");
    session.raise(some_failed);
  }
  if (totals.stopped && !session.progress.stop)
    session.say(Session::Tone::warning, "stopped at the first failure; --keep-going goes on");
  session.say(Session::Tone::note, totals_text(totals, request));
}

}  // namespace

void add_unpack(CommandLine& program, Session& session) {
  Options command = program.command({"unpack",
                                     "Unpack all or some of what is inside into a folder",
                                     {"operculum unpack tidepool.skin/textures",
                                      "operculum unpack exhibit-7.tar.xz --match '*.lua' --into scripts"}});
  auto options = std::make_shared<UnpackOptions>();
  UnpackRequest& request = options->request;
  std::vector<std::string> kinds(kind_names().begin(), kind_names().end());
  command.arguments("TARGET", options->targets, "Containers, or folders or entries in them");
  command.text("--into", request.into, "DIR",
               "The output folder; without it, a new one named after the container");
  options->selection.add_to(command, SelectionOptions::With::patterns_and_list);
  command.words("--only-kind", request.only_kinds, kinds, "KIND,...",
                "Only files that are of these kinds by content: image, sound, text, ...");
  command.words("--refuse-kind", request.refuse_kinds, kinds, "KIND,...",
                "Write nothing at all when a file is of one of these kinds, such as script,executable");
  command.flag("--deep", request.deep, "Unpack nested containers, too, each into a folder of its name");
  command.flag("--flat", request.flat, "All files directly into the output folder");
  command.text("--name-as", request.name_as, "TEMPLATE",
               "Name files by this template: {path} {folder} {name} {ending} {number} {container} {type} "
               "{crc32}, and facts that identify shows, as in {title}-{version}{ending}");
  command.flag("--dry-run", request.dry_run, "Print the full plan, write nothing");
  command.choice<Existing>(
      "--existing", request.existing, kExisting,
      "What to do with a file that is there already: keep it (the default), replace it, or "
      "give the new one another name");
  command.choice<LinkRule>(
      "--links", request.links, kLinks,
      "Symbolic links: rooted (the default) leaves out those that climb out with \"..\"; "
      "inside also absolute ones; stored makes all; none");
  command.flag("--keep-going,!--no-keep-going", request.keep_going, "Go on after a damaged entry (default)");
  command.flag("--keep-damaged", request.keep_damaged,
               "Keep what can be read of damaged files, as NAME.damaged");
  command.flag("--portable-names", options->portable_names, "Change names that other systems refuse");
  command.flag("--special-modes", request.special_modes, "Keep set-user-id and set-group-id bits of files");
  command.flag("--owners", request.owners, "Give files the owners that are stored, by number (as root)");
  command.flag("--xattrs", request.attributes, "Set the extended attributes that are stored");
  command.flag("--clear-origin", options->clear_origin,
               "Do not pass on the mark of where the container was downloaded from");
  command.flag("--devices", request.devices, "Make devices, fifos and sockets");
  command.number("--jobs", request.jobs, "Threads (0: one for each processor)");
  command.text("--receipt", options->receipt, "FILE",
               "Write what was written to this new file, as JSON; discard takes it back");
  command.run([&session, options] {
    prepare(session);
    options->request.names = options->portable_names ? NameRules::portable : NameRules::here;
    if (options->request.owners && geteuid() != 0)
      throw UsageError{"--owners: only root may give files to other owners"};
    if (!options->receipt.empty() && options->targets.size() > 1)
      throw UsageError{"--receipt takes one TARGET at a time"};
    if (!options->receipt.empty() && access(options->receipt.c_str(), F_OK) == 0)
      throw UsageError{
          fmt::format("--receipt: {} exists already; choose a new name", escape(options->receipt))};
    for (const std::string& target : options->targets) {
      if (session.progress.stop) break;
      try {
        unpack_one(session, *options, target, options->targets.size() > 1);
      } catch (const std::exception& thrown) {
        Error error = as_error(thrown);
        session.data.flush();
        report_error(session, target, error);
      }
    }
  });
}

}  // namespace operculum::cli
