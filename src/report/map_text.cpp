#include "report/map_text.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "base/units.h"

namespace operculum {
namespace {

class Lines {
 public:
  explicit Lines(std::size_t most) : most_(most) {}

  /// `around` is the path of what they lie in, which need not be said again.
  void add(const std::vector<Region>& regions, int depth, const std::string& around = "") {
    for (const Region& one : regions) {
      if (count_++ < most_) line(one, depth, around);
      add(one.inner, depth + 1, one.path);
    }
  }

  Shown finish() {
    if (count_ > most_)
      out_ += shown("            and {}; --json and --page have all\n",
                    counted(count_ - most_, "more range", "more ranges"));
    return std::move(out_);
  }

 private:
  void line(const Region& one, int depth, const std::string& around) {
    constexpr std::size_t kLongestNote = 60;
    bool beneath = !around.empty() && one.path.starts_with(around + "/");
    std::string what =
        one.gap ? fmt::format("({})", one.what) : escape(one.path.substr(beneath ? around.size() + 1 : 0));
    if (!one.gap && !one.what.empty()) what += "  " + printable(one.what);
    if (!one.note.empty()) {
      std::string note = printable(one.note);
      if (note.size() > kLongestNote) note = note.substr(0, kLongestNote) + "...";
      if (is_utf8(note)) what += fmt::format(" ({})", note);
    }
    out_ += shown("  {:<9} {:08x} {:>10}  {:{}}{}\n", out_.empty() ? "map" : "", one.at, human_size(one.size),
                  "", 2 * depth, what);
  }

  std::size_t most_, count_ = 0;
  Shown out_;
};

}  // namespace

Shown map_text(const RegionMap& map, std::size_t most) {
  Lines lines(most);
  lines.add(map.regions, 0);
  Shown out = lines.finish();
  for (const std::string& one : map.versions) out += shown("  {:<9} \"{}\"\n", "says", one);
  return out;
}

}  // namespace operculum
