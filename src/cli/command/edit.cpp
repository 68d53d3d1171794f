#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>
#include <cstdlib>

#include "base/text.h"
#include "cli/editor.h"
#include "cli/rebuild_options.h"
#include "container/locator.h"
#include "io/digest.h"
#include "io/file_source.h"
#include "io/output_folder.h"
#include "io/spool_file.h"
#include "sandbox/deputy.h"

namespace operculum::cli {
namespace {

struct EditOptions {
  std::string target;
  std::string receipt;
  PackOptions pack;
};

/// A folder of its own below $TMPDIR, that only this user may enter; gone at the end.
class Workshop {
 public:
  explicit Workshop(const std::string& name) {
    path_ = temporary_folder() + "/operculum-edit-XXXXXX";
    if (mkdtemp(path_.data()) == nullptr) throw IoError("cannot make a temporary folder", errno);
    std::string safe = make_safe(base_name(name), NameRules::here).path;
    name_ = safe.empty() ? "content" : safe;
  }
  ~Workshop() {
    unlink(file().c_str());
    rmdir(path_.c_str());  // what the editor left there stays
  }
  Workshop(const Workshop&) = delete;
  Workshop& operator=(const Workshop&) = delete;

  const std::string& folder() const { return path_; }
  std::string file() const { return path_ + "/" + name_; }

  /// The content, as the file.
  void put(const Content& content) const {
    OutputFolder folder(path_, OutputFolder::Must::be_there);
    OutputFile out = folder.begin_file(name_);
    StreamPtr stream = content.stream();
    Bytes buffer(256 * 1024);
    while (std::size_t count = stream->read(buffer)) out.write(ByteView(buffer).first(count));
    FileMetadata metadata;
    metadata.mode = 0600;
    out.commit(metadata, Existing::keep);
  }

 private:
  std::string path_, name_;
};

/// The locator of the container that an entry lies in.
std::string container_of(const std::string& target, const std::string& inside) {
  std::string ending = "/" + inside;
  return target.ends_with(ending) ? target.substr(0, target.size() - ending.size()) : target;
}

/// The editor is started by a process of its own, which is there before rights are given up.
void edit_one(Session& session, const EditOptions& options) {
  Workshop workshop(options.target);
  std::string file = workshop.file();
  Deputy editor([&file] { return edit_file(file); });
  RebuildRequest request;
  request.target = options.target;
  request.wishes.push_back({Wish::Kind::set, "", file});
  request.choice = options.pack.choice();
  request.receipt = options.receipt;
  confine_rebuild(session, request, workshop.folder());
  Place place = resolve(options.target, session.context, Step::no_more);
  if (!place.entry || !place.content) {
    throw Malformed("it is no file in a container; `operculum list` shows what can be edited");
  }
  workshop.put(*place.content);
  std::string before = sha256_of(*open_file(file));
  session.data.flush();
  if (editor.ask() != 0) {
    throw Error(ErrorKind::io,
                fmt::format("the editor \"{}\" ended with a failure, so nothing is written; set "
                            "VISUAL to another one",
                            escape(editor_command())));
  }
  if (sha256_of(*open_file(file)) == before) {
    session.say(Session::Tone::note,
                fmt::format("{}: not changed, so nothing is written", escape(options.target)));
    return;
  }
  request.target = container_of(options.target, place.inside);
  request.wishes.front().path = place.inside;
  run_rebuild(session, request);
}

}  // namespace

void add_edit(CommandLine& program, Session& session) {
  Options command = program.command({"edit",
                                     "Open one entry in your editor, and put it back when you changed it",
                                     {"operculum edit kiosk.zip/scripts/tide.lua",
                                      "VISUAL=nano operculum edit exhibit-7.tar.xz/opt/kiosk/exhibit.conf"}});
  auto options = std::make_shared<EditOptions>();
  command.argument("TARGET", options->target, "A file in a container");
  command.text("--receipt", options->receipt, "FILE", "Write what discard needs to take it back");
  options->pack.add_to(command);
  command.run([&session, options] {
    prepare(session);
    try {
      edit_one(session, *options);
    } catch (const std::exception& thrown) {
      report_error(session, options->target, as_error(thrown));
    }
  });
}

}  // namespace operculum::cli
