#include <fmt/format.h>

#include <algorithm>

#include "base/units.h"
#include "cli/session.h"
#include "report/records.h"
#include "report/text_table.h"

namespace operculum::cli {
namespace {

constexpr std::size_t kWidth = 100, kIndent = 12;  // columns

/// In which order families are told: what people meet most comes first.
constexpr std::string_view kFamilies[] = {"archive",         "stream", "package",     "disk image",
                                          "partition table", "volume", "file system", "firmware"};
std::size_t place_of(std::string_view family) {
  return static_cast<std::size_t>(std::find(std::begin(kFamilies), std::end(kFamilies), family) -
                                  std::begin(kFamilies));
}

}  // namespace

void add_formats(CommandLine& program, Session& session) {
  Options command = program.command(
      {"formats",
       "Tell which formats are read, with their features and specifications; described ones, too",
       {"operculum formats", "operculum formats --json"}});
  command.run([&session] {
    prepare(session);
    std::vector<const Format*> all;
    for (const Format& format : formats()) all.push_back(&format);
    for (const Format& format : session.library().formats()) all.push_back(&format);
    std::stable_sort(all.begin(), all.end(), [](const Format* a, const Format* b) {
      return place_of(a->family) < place_of(b->family);
    });
    if (session.json) {
      for (const Format* format : all) session.data.write(json_line(*format));
      return;
    }
    Shown text;
    for (const Format* one : all) {
      const Format& format = *one;
      text +=
          shown("{}  ({}, {})\n", styled(format.name, "1", session.data.is_terminal() && colour_wanted(1)),
                format.id, format.family);
      auto line = [&](std::string_view label, std::string_view value) {
        if (!value.empty())
          text += shown("  {:<9} {}\n", label, Shown::lines(wrapped(value, kWidth, kIndent)));
      };
      line("follows", format.specification);
      line("reads", format.reads);
      line("lacks", format.lacks);
      line("writes", format.writes);
      if (!format.views.empty()) line("views", fmt::format("{}", fmt::join(format.views, " ")));
      line("endings", fmt::format("{}", fmt::join(format.suffixes, " ")));
    }
    session.data.write(text);
  });
}

}  // namespace operculum::cli
