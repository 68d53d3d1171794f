#include "task/unpack.h"

#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <map>
#include <set>

#include "base/text.h"
#include "base/units.h"
#include "cli/confinement.h"
#include "cli/message_fold.h"
#include "cli/output_folders.h"
#include "cli/progress_line.h"
#include "cli/selection_options.h"
#include "cli/session.h"
#include "container/outer_file.h"
#include "io/origin.h"
#include "report/records.h"
#include "task/kinds.h"
#include "task/name_encoding.h"
#include "task/output_place.h"
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

/// Which folder each container is unpacked into: targets of one container share theirs.
class Destinations {
 public:
  /// Makes the folders, unless it is a dry run.
  Destinations(const UnpackOptions& options, const OpenContext& context, Confinement& confinement) {
    std::set<std::string> files;
    for (const std::string& target : options.targets) {
      std::string file = file_of(target, &context);
      if (file.empty()) continue;  // it is told when it is opened
      files.insert(file);
      files_.emplace(target, file);
    }
    for (const std::string& target : options.targets) {
      auto file = files_.find(target);
      if (file != files_.end() && !by_file_.contains(file->second))
        add(options, file->second, files.size() > 1, confinement);
    }
  }

  void set(UnpackRequest& request, const std::string& target) {
    Destination& destination = by_file_.at(files_.at(target));
    request.into = destination.path;
    request.folder = destination.folder;
    request.into_new = destination.fresh;
    destination.fresh = false;  // another target of this file finds what is written now
  }

 private:
  struct Destination {
    std::string path;
    std::shared_ptr<OutputFolder> folder;  // not in a dry run
    bool fresh = false;                    // nothing is in it
  };

  void add(const UnpackOptions& options, const std::string& file, bool several, Confinement& confinement) {
    const std::string& into = options.request.into;
    Destination destination;
    destination.path = into.empty() ? folder_name_for(file)
                       : several    ? into + "/" + folder_name_for(file)
                                    : into;
    while (destination.path.size() > 1 && destination.path.ends_with('/')) destination.path.pop_back();
    bool another_has_it = std::any_of(by_file_.begin(), by_file_.end(),
                                      [&](const auto& one) { return one.second.path == destination.path; });
    bool is_new = into.empty() || another_has_it;
    if (options.request.dry_run) {
      if (is_new) destination.path = free_folder_name(destination.path);
      destination.fresh = is_new;
    } else {
      auto must = is_new ? OutputFolder::Must::be_new : OutputFolder::Must::exist;
      destination.folder = folders_.make(destination.path, must, confinement);
      destination.path = destination.folder->path();
      destination.fresh = destination.folder->made();
    }
    by_file_.emplace(file, std::move(destination));
  }

  OutputFolders folders_;
  std::map<std::string, std::string> files_;  // by target
  std::map<std::string, Destination> by_file_;
};

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
    if (session_.context.names_in.empty()) names_.look(event.path);
    switch (event.kind) {
      case UnpackEvent::Kind::file:
      case UnpackEvent::Kind::folder:
      case UnpackEvent::Kind::link:
      case UnpackEvent::Kind::device:
        written(event, path);
        break;
      case UnpackEvent::Kind::kept:
        say(Session::Tone::warning, event, escape(event.output), "not written, " + event.message);
        break;
      case UnpackEvent::Kind::left_out:
        say(Session::Tone::warning, event, path, "left out, " + event.message);
        break;
      case UnpackEvent::Kind::failed:
        say(Session::Tone::error, event, path, event.message + std::string(fate_of(event)));
        break;
      case UnpackEvent::Kind::note:
        say(Session::Tone::note, event, "", event.message);
        break;
      case UnpackEvent::Kind::warning:
        say(Session::Tone::warning, event, path, event.message);
        break;
      case UnpackEvent::Kind::fault:
        say(Session::Tone::error, event, path, event.message);
        break;
    }
  }

  /// Tells what was only counted.
  void finish() {
    line_.clear();
    fold_.finish();
    if (std::string hint = names_.hint(); !hint.empty()) session_.say(Session::Tone::note, hint);
  }

 private:
  static std::string_view fate_of(const UnpackEvent& event) {
    return event.error == ErrorKind::malformed ? "; kept out of the output" : "; not written";
  }

  void written(const UnpackEvent& event, const std::string& path) {
    std::string output = escape(event.output);
    if (!event.message.empty())
      say(Session::Tone::note, event, path, fmt::format("written as {} ({})", output, event.message));
    if (!options_.request.dry_run && !session_.verbose) return;
    std::string mark = event.kind == UnpackEvent::Kind::folder ? "/" : "";
    std::string size =
        event.kind == UnpackEvent::Kind::file ? fmt::format("  {}", human_size(event.size)) : "";
    session_.data.write(shown("{}{}{}\n", output, mark, size));
  }

  void say(Session::Tone tone, const UnpackEvent& event, const std::string& path,
           const std::string& sentence) {
    line_.clear();
    fold_.say(tone, event.cause.empty() ? std::string_view(event.message) : event.cause, path, sentence);
  }

  Session& session_;
  ProgressLine& line_;
  const UnpackOptions& options_;
  MessageFold fold_{session_};
  NameEncoding names_;
};

std::string totals_text(const UnpackTotals& totals, const UnpackRequest& request) {
  std::string text = fmt::format("{} ({})", counted(totals.files, "file", "files"), human_size(totals.bytes));
  if (totals.folders > 0) text += fmt::format(", {}", counted(totals.folders, "folder", "folders"));
  if (totals.devices > 0) text += fmt::format(", {}", counted(totals.devices, "device", "devices"));
  if (totals.links > 0) text += fmt::format(", {}", counted(totals.links, "link", "links"));
  text = request.dry_run
             ? fmt::format("would write {} into {}; nothing was written", text, escape(request.into))
             : fmt::format("wrote {} into {}", text, escape(request.into));
  if (totals.kept > 0) text += fmt::format("; {} kept as they were", grouped(totals.kept));
  if (totals.left_out > 0) text += fmt::format("; {} left out", grouped(totals.left_out));
  if (totals.failed > 0) text += fmt::format("; {} failed", grouped(totals.failed));
  return text;
}

/// What a person should know of the whole.
void tell_totals(Session& session, const UnpackRequest& request, const UnpackTotals& totals,
                 const std::string& target, bool searched) {
  auto note = [&](std::uint64_t count, std::string_view one, std::string_view many, std::string_view what) {
    if (count > 0) session.say(Session::Tone::note, fmt::format("{} {}", counted(count, one, many), what));
  };
  note(totals.not_portable, "name", "names",
       "would be refused by other systems; --portable-names changes them");
  note(totals.modes_cut, "file or folder", "files and folders",
       "had set-user-id, set-group-id or sticky bits, which were left out; --special-modes keeps them");
  std::uint64_t met = totals.files + totals.folders + totals.links + totals.devices + totals.kept +
                      totals.left_out + totals.failed;
  if (met == 0 && !searched) {
    session.say(Session::Tone::warning, "nothing fits; `operculum list --paths` shows what there is");
    session.raise(some_failed);
  }
  if (met == 0) return;
  if (session.progress.stop) {
    session.say(Session::Tone::warning,
                fmt::format("{} is not complete; to go on: operculum unpack {} --into {}",
                            escape(request.into), shell_word(target), shell_word(request.into)));
  } else if (totals.stopped) {
    session.say(Session::Tone::warning, "stopped at the first failure; --keep-going goes on");
  }
  session.say(Session::Tone::note, totals_text(totals, request));
}

/// Whether a locator that ends at an inner container means what is in it, not the file.
bool wants_contents(const UnpackOptions& options, const std::string& target) {
  return target.ends_with('/') || options.request.deep || options.selection.searches() ||
         !options.request.only_kinds.empty();
}

/// Who named an inner container may have meant what is in it.
void tell_how_to_go_in(Session& session, const Place& place, const std::string& target) {
  if (!place.entry || !place.entry->has_data()) return;
  const Format* format = format_for_name(place.name, &session.context);
  if (format == nullptr || format->carries) return;
  session.say(Session::Tone::note, fmt::format("{} was taken as a file; what is in it: operculum unpack {}",
                                               escape(place.name), shell_word(target + "/")));
}

void unpack_one(Session& session, UnpackOptions& options, const std::string& target,
                Destinations& destinations) {
  bool contents = wants_contents(options, target);
  Place place = resolve(target, session.context, contents ? Step::into : Step::file);
  if (place.layers.empty() && options.selection.searches() && options.targets.size() > 1) return;
  if (place.layers.empty())
    throw Malformed(no_container_text(place, "; `operculum identify` tells what it is"));
  UnpackRequest request = options.request;
  bool single = place.layers.back().format->single_stream;
  request.selection = options.selection.selection(single ? "" : place.inside);
  destinations.set(request, target);
  request.digests = request.keep_replaced = !options.receipt.empty();
  if (!options.clear_origin) request.origin = origin_of(place.file).value_or("");
  Receipt receipt;
  receipt.source = target;

  ProgressLine line(session);
  UnpackReport report(session, line, options);
  auto keep_receipt = [&](bool complete) {
    if (options.receipt.empty() || request.dry_run) return;
    receipt.folder = absolute_path(request.into);
    receipt.complete = complete;
    receipt.write(options.receipt);
  };
  UnpackTotals totals;
  try {
    totals = unpack(place, request, session.context, session.progress, [&](const UnpackEvent& event) {
      if (request.digests) receipt.add(event);
      report.take(event);
    });
  } catch (const std::exception&) {
    report.finish();
    keep_receipt(false);  // what was written before is to be taken back, too
    throw;
  }
  report.finish();
  if (!totals.into.empty()) request.into = totals.into;
  keep_receipt(!totals.stopped);
  if (totals.failed > 0 || totals.faults > 0) session.raise(totals.key_needed ? key_needed : some_failed);
  if (totals.left_out > 0) session.raise(some_failed);
  if (session.json) {
    session.data.write(json_line(totals, request.dry_run));
    return;
  }
  session.data.flush();  // the plan before what is said of it
  tell_totals(session, request, totals, target, options.selection.searches());
  if (!contents) tell_how_to_go_in(session, place, target);
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
  command.arguments("TARGET", options->targets,
                    "Containers, or folders or entries in them; an entry that is a container is taken "
                    "as a file, and with a slash at its end what is in it");
  command.text("--into", request.into, "DIR",
               "The output folder; without it, a new one named after the container");
  options->selection.add_to(command, SelectionOptions::With::patterns_and_list);
  command.words("--only-kind", request.only_kinds, kinds, "KIND,...",
                "Only files that are of these kinds by content: image, sound, text, ...");
  command.words("--refuse-kind", request.refuse_kinds, kinds, "KIND,...",
                "Write nothing at all when a file is of one of these kinds, such as script,executable");
  command.flag("--deep", request.deep, "Unpack nested containers, too, each into a folder of its name");
  command.flag("--deep-programs", request.programs,
               "With --deep, also out of programs that carry containers");
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
  command.flag("--keep-packed", request.keep_packed,
               "Write files as they lie in the container, packed as they are, for codecs that are not here");
  command.flag("--portable-names", options->portable_names, "Change names that other systems refuse");
  command.flag("--lower-case", request.lower_case,
               "Names in small letters; two that become equal are numbered, and told");
  command.flag("--special-modes", request.special_modes, "Keep set-user-id, set-group-id and sticky bits");
  command.flag("--exact-modes", request.exact_modes, "Permission bits as stored, whatever the umask says");
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
    options->selection.selection("");  // reads the list, which may lie anywhere
    Confinement confinement(session);
    confinement.reads(options->targets);
    if (!options->request.dry_run) confinement.makes(options->receipt);
    confinement.rights().owners = options->request.owners;
    confinement.rights().devices = options->request.devices;
    confinement.rights().attributes = options->request.attributes;
    Destinations destinations(*options, session.context, confinement);
    confinement.begin();
    session.context.once =
        options->targets.size() == 1 && options->request.refuse_kinds.empty() && !session.search;
    for (const std::string& target : options->targets) {
      if (session.progress.stop) break;
      try {
        unpack_one(session, *options, target, destinations);
      } catch (const std::exception& thrown) {
        Error error = as_error(thrown);
        session.data.flush();
        report_error(session, target, error);
      }
    }
    if (!session.progress.stop) options->selection.tell_unfitted(session);
  });
}

}  // namespace operculum::cli
