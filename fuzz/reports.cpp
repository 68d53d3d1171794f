// What is told of a file: nothing in it may steer a terminal, JSON must be JSON, and a page holds no markup
// but its own.
#include <fcntl.h>
#include <fmt/format.h>
#include <sys/mman.h>
#include <unistd.h>

#include <algorithm>
#include <stdexcept>

#include "base/error.h"
#include "base/text.h"
#include "fuzz/target.h"
#include "report/install_text.h"
#include "report/map_text.h"
#include "report/records.h"
#include "report/tree_text.h"
#include "support/json.h"
#include "task/identify.h"
#include "task/install_report.h"
#include "task/list.h"

namespace operculum::fuzz {
namespace {

void check_text(const Shown& told) {
  must(std::all_of(told.text().begin(), told.text().end(),
                   [](unsigned char c) { return (c >= 0x20 && c != 0x7f) || c == '\n' || c == '\r'; }),
       "a report steers a terminal");
}

void check_json(const Shown& line) {
  check_text(line);
  must(line.text().ends_with('\n') && std::count(line.text().begin(), line.text().end(), '\n') == 1,
       "a record is not one line");
  test::parse_json(line.text());  // what it throws is a finding
}

void check_page(const std::string& page) {
  must(std::count(page.begin(), page.end(), '<') == std::count(page.begin(), page.end(), '>'),
       "a page's markup is not its own");
}

/// A file in memory: tasks take the names of files.
class InMemory {
 public:
  explicit InMemory(ByteView bytes) : number_(memfd_create("fuzz", MFD_CLOEXEC)) {
    must(number_ >= 0 && write(number_, bytes.data(), bytes.size()) == static_cast<ssize_t>(bytes.size()),
         "no file in memory");
  }
  ~InMemory() { close(number_); }
  InMemory(const InMemory&) = delete;
  InMemory& operator=(const InMemory&) = delete;
  std::string path() const { return fmt::format("/proc/self/fd/{}", number_); }

 private:
  int number_;
};

void set_limits(OpenContext& context) {
  context.limits.max_entries = 10'000;
  context.limits.max_total = 16 << 20;
}

void tell_what_it_is(const std::string& path) {
  OpenContext context;
  set_limits(context);
  Identification told =
      identify(path, {.count_solid = true, .claims = true, .records = true, .map_disks = true}, context);
  check_json(json_line(told));
  if (!told.map) return;
  check_text(map_text(*told.map));
  check_page(map_page(*told.map, "sample"));
}

void tell_what_is_in_it(const std::string& path) {
  OpenContext context;
  set_limits(context);
  Place place = resolve(path, context, Step::into);
  if (!place.is_container()) return;
  TreeText tree;
  list(
      place, {.selection = {}, .deep = true}, context,
      [&](const Found& found) {
        check_json(json_line(found));
        check_text(csv_line({escape(found.path), escape(found.entry.link_target())}));
        tree.add(found.path, found.entry.kind == EntryKind::folder, "");
      },
      [](const std::string&, const Finding& finding) { check_json(json_line(finding)); });
  tree.draw([](const Shown& line) { check_text(line); });
}

void tell_what_it_installs(const std::string& path) {
  OpenContext context;
  set_limits(context);
  std::vector<PackageReport> reports = report_installation(path, context);
  for (const PackageReport& report : reports) {
    check_json(json_line(report));
    check_text(install_text(report, true));
  }
  check_page(install_page(reports, "sample"));
}

void tell(ByteView bytes) {
  InMemory file(bytes);
  for (auto report : {tell_what_it_is, tell_what_is_in_it, tell_what_it_installs}) {
    try {
      report(file.path());
    } catch (const Error& error) {
      check_text(Shown(std::string_view(error.what())));
    }
  }
}

}  // namespace

std::vector<Target> report_targets() {
  return {{"reports", tell}};
}

}  // namespace operculum::fuzz
