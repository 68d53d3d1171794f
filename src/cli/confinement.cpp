#include "cli/confinement.h"

#include <fmt/format.h>
#include <sys/stat.h>

#include <algorithm>
#include <cstdlib>

#include "base/path_parts.h"
#include "base/text.h"
#include "container/outer_file.h"
#include "io/http_client.h"
#include "io/spool_file.h"
#include "task/selection.h"

namespace operculum::cli {
namespace {

/// What libraries read when they are first needed; nothing in it is anybody's own.
constexpr const char* kSystemFiles[] = {"/lib",
                                        "/lib64",
                                        "/usr/lib",
                                        "/usr/lib64",
                                        "/usr/local/lib",
                                        "/usr/share/file",
                                        "/usr/share/misc",
                                        "/usr/share/locale",
                                        "/usr/share/zoneinfo",
                                        "/etc/ld.so.cache",
                                        "/etc/localtime",
                                        "/etc/magic",
                                        "/etc/magic.mime",
                                        "/etc/ssl/openssl.cnf",
                                        "/sys/devices/system/cpu"};
constexpr const char* kNetworkFiles[] = {"/etc/resolv.conf",
                                         "/etc/hosts",
                                         "/etc/host.conf",
                                         "/etc/gai.conf",
                                         "/etc/nsswitch.conf",
                                         "/etc/services",
                                         "/etc/ssl",
                                         "/usr/share/ca-certificates",
                                         "/etc/ca-certificates",
                                         "/usr/local/share/ca-certificates",
                                         "/run/systemd/resolve"};

/// Each once, and few of those that lie in another one.
void shorten(std::vector<std::string>& list) {
  std::sort(list.begin(), list.end());
  std::vector<std::string> kept;
  for (std::string& path : list) {
    if (kept.empty() || !lies_in(path, kept.back())) kept.push_back(std::move(path));
  }
  list = std::move(kept);
}

}  // namespace

Confinement::Confinement(Session& session) : session_(session) {}

Confinement& Confinement::reads(const std::string& target) {
  if (is_url(target)) {
    rights_.network = true;
    return *this;
  }
  struct stat status {};
  if (stat(target.c_str(), &status) == 0 && S_ISDIR(status.st_mode)) {
    rights_.read.push_back(target);
    return *this;
  }
  std::string file = file_of(target, &session_.context);
  if (file.empty() || file == "-" || stat(file.c_str(), &status) != 0) return *this;
  bool plain = S_ISREG(status.st_mode);
  std::string folder = folder_on_disk(file);
  if (plain && folder != "/") rights_.read.push_back(folder);
  struct stat itself {};
  bool link = lstat(file.c_str(), &itself) == 0 && S_ISLNK(itself.st_mode);
  if (link || !plain || folder == "/") rights_.read.push_back(real_path_of(file));
  return *this;
}

Confinement& Confinement::reads(const std::vector<std::string>& targets) {
  for (const std::string& target : targets) reads(target);
  return *this;
}

Confinement& Confinement::reads_links(const std::vector<std::string>& files) {
  for (const std::string& file : files) {
    struct stat status {};
    if (lstat(file.c_str(), &status) == 0 && S_ISLNK(status.st_mode))
      rights_.read.push_back(real_path_of(file));
  }
  return *this;
}

Confinement& Confinement::reads_file(const std::string& path) {
  if (!path.empty()) rights_.read.push_back(real_path_of(path));
  return *this;
}

Confinement& Confinement::asks(const std::string& database) {
  if (database.empty()) return *this;
  std::string folder = folder_on_disk(real_path_of(database));
  rights_.new_files.push_back(folder);
  setenv("SQLITE_TMPDIR", folder.c_str(), 0);  // what it sorts outside of memory goes there, too
  return *this;
}

Confinement& Confinement::changes(const std::string& folder) {
  rights_.write.push_back(folder);
  return *this;
}

Confinement& Confinement::makes(const std::string& new_file) {
  if (!new_file.empty()) rights_.new_files.push_back(folder_on_disk(new_file));
  return *this;
}

Confinement& Confinement::takes_back(const std::string& folder) {
  rights_.tidy.push_back(folder_on_disk(folder));
  return *this;
}

void Confinement::add_program_files() {
  rights_.read.insert(rights_.read.end(), std::begin(kSystemFiles), std::end(kSystemFiles));
  if (rights_.network)
    rights_.read.insert(rights_.read.end(), std::begin(kNetworkFiles), std::end(kNetworkFiles));
  for (const std::string& folder : session_.layout_folders()) rights_.read.push_back(folder);
  if (const char* home = std::getenv("HOME"); rights_.network && home != nullptr)
    rights_.read.push_back(std::string(home) + "/.netrc");  // who asks, for libcurl
  for (const char* variable : {"MAGIC", "TZDIR", "SSL_CERT_FILE", "SSL_CERT_DIR", "OPENSSL_CONF"}) {
    if (const char* path = std::getenv(variable); path != nullptr && *path != '\0')
      rights_.read.push_back(path);
  }
  rights_.write.push_back("/dev/tty");  // passwords are asked there
  rights_.write.push_back("/dev/null");
  makes(session_.output);
}

void Confinement::begin() {
  SpoolFile::of_this_run().open_early();
  if (session_.no_sandbox)
    return session_.say(
        Session::Tone::warning,
        "running without the sandbox, as --no-sandbox asks: a mistake in reading the file could reach "
        "all that you can reach");
  add_program_files();
  for (auto* list : {&rights_.read, &rights_.write, &rights_.new_files, &rights_.tidy}) shorten(*list);
  Enforced enforced = give_up_all_but(rights_);
  if (!enforced.anything()) session_.say(Session::Tone::note, enforced.weaker + "; there is no sandbox");
  if (session_.verbose) session_.say(Session::Tone::note, confinement_text(enforced));
}

std::string real_path_of(const std::string& path) {
  std::unique_ptr<char, void (*)(void*)> real(realpath(path.c_str(), nullptr), std::free);
  return real ? real.get() : path;
}

std::string confinement_text(const Enforced& enforced) {
  std::string text = "sandbox: ";
  text += enforced.landlock > 0 ? fmt::format("files by Landlock {}", enforced.landlock) : "no Landlock";
  text += enforced.system_calls ? ", system calls by a list" : ", no list of system calls";
  return text;
}

}  // namespace operculum::cli
