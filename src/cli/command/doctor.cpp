#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <sys/statvfs.h>
#include <unistd.h>

#include <cstdlib>
#include <thread>

#include "base/text.h"
#include "base/units.h"
#include "cli/confinement.h"
#include "cli/session.h"
#include "io/curl_library.h"
#include "io/descriptor.h"
#include "io/spool_file.h"
#include "report/records.h"
#include "task/checkup.h"

namespace operculum::cli {
namespace {

/// The kernel's protection of what a mistake in reading a file could reach.
Checkup sandbox_here() {
  Enforced could = enforceable();
  std::string text = confinement_text(could).substr(std::string_view("sandbox: ").size());
  return {"sandbox", could.weaker.empty(), could.weaker.empty() ? text : text + "; " + could.weaker};
}

Checkup temporary_files() {
  std::string folder = temporary_folder();
  struct statvfs room {};
  if (statvfs(folder.c_str(), &room) != 0)
    return {"temporary files", false,
            fmt::format("{} cannot be used; set TMPDIR to a folder that can", escape(folder))};
  Descriptor file(open(folder.c_str(), O_TMPFILE | O_RDWR | O_CLOEXEC, 0600));
  std::uint64_t bytes = std::uint64_t{room.f_bavail} * room.f_frsize;
  if (!file)
    return {"temporary files", false,
            fmt::format(
                "{} takes no unnamed files, which inner containers need; set TMPDIR to a folder that does",
                escape(folder))};
  return {"temporary files", true, fmt::format("{}, {} free", escape(folder), human_size(bytes))};
}

Checkup key_file(const Session& session) {
  std::string path = session.config_folder + "/keys.toml";
  struct stat status {};
  if (stat(path.c_str(), &status) != 0)
    return {"keys", true, fmt::format("none; they would be in {}", escape(path))};
  if ((status.st_mode & 077) != 0)
    return {"keys", false, fmt::format("others can read {}; chmod 600 makes it yours alone", escape(path))};
  return {"keys", true, escape(path)};
}

Checkup descriptions(Session& session) {
  std::size_t all = 0;
  std::string faulty;
  for (const layout::Found& found : session.library().all()) {
    ++all;
    if (!found.compiled.plan) faulty += (faulty.empty() ? "" : ", ") + escape(found.path);
  }
  std::string text = counted(all, "found", "found");
  if (!faulty.empty()) text += fmt::format("; with errors: {}; `operculum layout check` tells which", faulty);
  return {"descriptions", faulty.empty(), text};
}

Checkup mounting() {
  bool device = access("/dev/fuse", R_OK | W_OK) == 0;
  bool helper =
      geteuid() == 0 || access("/usr/bin/fusermount3", X_OK) == 0 || access("/bin/fusermount3", X_OK) == 0;
  std::string text = !device   ? "/dev/fuse cannot be opened, so mount does not work"
                     : !helper ? "fusermount3 is missing, so mount does not work; the package fuse3 has it"
                               : "FUSE is there";
  return {"mount", device && helper, text};
}

Checkup servers() {
  try {
    curl_library();
    return {"servers", true, "libcurl is there"};
  } catch (const std::exception& thrown) {
    return {"servers", false, fmt::format("{}; files on servers cannot be read", thrown.what())};
  }
}

}  // namespace

void add_doctor(CommandLine& program, Session& session) {
  Options command =
      program.command({"doctor",
                       "Tell what protects a run on this machine, and what is missing for some of it",
                       {"operculum doctor", "operculum doctor --json"}});
  command.run([&session] {
    prepare(session);
    std::vector<Checkup> all = {sandbox_here(),        temporary_files(), key_file(session),
                                descriptions(session), mounting(),        servers()};
    all.push_back({"processors", true, fmt::format("{}", std::thread::hardware_concurrency())});
    bool colour = session.output.empty() && colour_wanted(1);
    for (const Checkup& one : all) {
      if (!one.well) session.raise(some_failed);
      session.data.write(session.json
                             ? json_line(one)
                             : shown("{}  {:<16} {}\n", one.well ? Shown("  ") : styled("!!", "31", colour),
                                     one.subject, one.text));
    }
  });
}

}  // namespace operculum::cli
