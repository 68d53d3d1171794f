#include "task/verify.h"

#include <fmt/format.h>

#include <map>

#include "base/text.h"
#include "base/units.h"
#include "cli/confinement.h"
#include "cli/folder_options.h"
#include "cli/progress_line.h"
#include "cli/selection_options.h"
#include "cli/session.h"
#include "io/digest.h"
#include "io/file_source.h"
#include "report/records.h"
#include "task/published_digest.h"

namespace operculum::cli {
namespace {

struct VerifyOptions {
  std::vector<std::string> targets;
  SelectionOptions selection;
  VerifyRequest request;
  std::string sha256;
  FolderOptions folders;
};

/// Compares the file of a target with a published digest.
void verify_digest(Session& session, const VerifyOptions& options, const std::string& target) {
  std::string expected = published_sha256(options.sha256, target);
  std::string computed = sha256_of(*open_file(target));
  bool same = expected == computed;
  if (!same) session.raise(some_failed);
  if (session.json) return session.data.write(json_digest_line(target, expected, computed));
  if (same && session.quiet) return;
  session.data.write(
      same ? shown("{}: its SHA-256 is the one that was published\n", escape(target))
           : shown("{}: its SHA-256 differs (published {}, computed {}); the file is not the one "
                   "that was published\n",
                   escape(target), expected, computed));
}

/// One honest sentence on the whole.
std::string totals_text(const VerifyTotals& totals) {
  std::string text = totals.failed == 0
                         ? counted(totals.entries, "file", "files")
                         : fmt::format("{} of {}", grouped(totals.entries),
                                       counted(totals.entries + totals.failed, "file", "files"));
  text += fmt::format(" decoded ({})", human_size(totals.bytes));
  std::uint64_t without = totals.entries - totals.with_checksum;
  if (totals.entries > 0 && without == 0) {
    text += totals.entries == 1 ? "; it has a checksum, and it is right"
                                : "; every one of these has a checksum, and it is right";
  } else if (totals.with_checksum == 0) {
    text += totals.entries == 0 ? "" : "; there is no checksum to compare";
  } else {
    text += fmt::format("; {} with a checksum, and it is right; {} without one, which could only be decoded",
                        grouped(totals.with_checksum), grouped(without));
  }
  text += totals.failed > 0 ? fmt::format("; {} failed", grouped(totals.failed)) : "";
  std::uint64_t others = totals.faults - totals.failed;
  if (others > 0)
    text += fmt::format("; {}", counted(others, "fault of the container", "faults of the container"));
  return text + (totals.faults == 0 ? ". No faults." : ".");
}

/// Tells faults on standard output; of many equal ones the first few.
class FaultReport {
 public:
  FaultReport(Session& session, const std::string& target) : session_(session), target_(target) {}

  void take(const Fault& fault) {
    if (session_.json) return session_.data.write(json_line(fault));
    if (fault.level == Finding::Level::note && session_.quiet) return;
    if (++told_[fault.message] > kSaid && !session_.verbose) return;
    std::string path =
        fault.path.empty() ? escape(target_) : fmt::format("{}/{}", escape(target_), escape(fault.path));
    std::string level = fault.level == Finding::Level::fault ? "" : fmt::format("{}: ", name_of(fault.level));
    session_.data.write(shown("{}: {}{}\n", path, level, fault.message));
  }

  void finish() {
    for (const auto& [message, count] : told_) {
      if (session_.json || session_.verbose || count <= kSaid) continue;
      session_.data.write(shown("{}: {} more of these: {} (--verbose lists them)\n", escape(target_),
                                grouped(count - kSaid), message));
    }
  }

 private:
  Session& session_;
  const std::string& target_;
  static constexpr std::uint64_t kSaid = 3;    // of equal ones, in full
  std::map<std::string, std::uint64_t> told_;  // by message
};

void verify_one(Session& session, VerifyOptions& options, const std::string& target) {
  Place place = resolve(target, session.context, Step::into);
  if (place.layers.empty()) {
    if (options.selection.searches()) return;
    throw Malformed(no_container_text(place, ", so there is nothing to verify"));
  }
  options.request.selection = options.selection.selection(place.entry ? "" : place.inside);
  ProgressLine line(session);
  FaultReport report(session, target);
  VerifyTotals totals =
      verify(place, options.request, session.context, session.progress, [&](const Fault& fault) {
        line.clear();
        report.take(fault);
      });
  line.clear();
  report.finish();
  if (totals.faults > 0) session.raise(totals.key_needed ? key_needed : some_failed);
  if (session.json) return session.data.write(json_line(totals));
  bool nothing = totals.entries + totals.failed == 0 && options.selection.searches();
  if (nothing || (session.quiet && totals.faults == 0)) return;
  session.data.write(shown("{}: {}\n", escape(target), totals_text(totals)));
  if (totals.nested > 0) {
    session.say(Session::Tone::note,
                fmt::format("{}: {} not entered; --deep verifies the contents, too", escape(target),
                            totals.nested == 1
                                ? "a file that is a container by its name was"
                                : grouped(totals.nested) + " files that are containers by their names were"));
  }
}

}  // namespace

void add_verify(CommandLine& program, Session& session) {
  Options command =
      program.command({"verify",
                       "Decode everything, check every checksum and size, write nothing",
                       {"operculum verify gauge-logs.zip", "operculum verify --deep exhibit-7.tar.xz"}});
  auto options = std::make_shared<VerifyOptions>();
  command.arguments("TARGET", options->targets, "Containers, folders or entries in them");
  command.flag("--deep", options->request.deep, "Into nested containers, too");
  command.flag("--deep-programs", options->request.programs,
               "With --deep, also into programs that carry containers");
  command.text(
      "--sha256", options->sha256, "HEX|FILE",
      "Compare the files themselves with a published digest, or with those in a list such as SHA256SUMS");
  command.number("--jobs", options->request.jobs, "Threads (0: one for each processor)");
  options->folders.add_to(command);
  options->selection.add_to(command, SelectionOptions::With::patterns);
  command.run([&session, options] {
    prepare(session);
    std::vector<std::string> targets = options->folders.files(session, options->targets);
    Confinement(session).reads(options->targets).reads_links(targets).reads_file(options->sha256).begin();
    session.context.once = targets.size() == 1 && !session.search;
    for (const std::string& target : targets) {
      try {
        if (!options->sha256.empty()) {
          verify_digest(session, *options, target);
          continue;
        }
        verify_one(session, *options, target);
      } catch (const std::exception& thrown) {
        Error error = as_error(thrown);
        report_error(session, target, error);
      }
    }
    options->selection.tell_unfitted(session);
  });
}

}  // namespace operculum::cli
