#include "report/rebuild_text.h"

#include <fmt/format.h>

#include "base/text.h"
#include "base/units.h"
#include "report/records.h"

namespace operculum {
namespace {

std::string line_of(const Fate& fate) {
  std::string text = fmt::format("{}: {}", escape(fate.path), name_of(fate.kind));
  if (fate.kind == Fate::Kind::renamed) text += fmt::format(" to {}", escape(fate.new_path));
  bool both = fate.old_size != Entry::kUnknownSize && fate.new_size != Entry::kUnknownSize;
  if (fate.kind == Fate::Kind::changed && both)
    text += fmt::format(", {} to {}", human_size(fate.old_size), human_size(fate.new_size));
  if (fate.kind == Fate::Kind::added) text += fmt::format(", {}", human_size(fate.new_size));
  text += "\n";
  for (const std::string& note : fate.notes) text += fmt::format("  {}\n", printable(note));
  return text;
}

}  // namespace

std::string rebuild_text(const RebuildResult& result, const std::string& target, bool dry_run) {
  std::string text;
  for (const Fate& fate : result.fates) text += line_of(fate);
  if (result.trimmed > 0)
    text += fmt::format("{:<8} {} of filling ({} bytes)\n", "trimmed", human_size(result.trimmed),
                        grouped(result.trimmed));
  std::string kept = counted(result.kept_entries, "other entry", "other entries");
  if (result.fates.empty() && result.written.empty() && !dry_run)
    return text + fmt::format("{}: nothing differs, so nothing was written\n", escape(target));
  if (dry_run) {
    return text + fmt::format("{}: would become {}, from {}; {} kept as they lie\n", escape(target),
                              human_size(result.new_size), human_size(result.old_size), kept);
  }
  text += fmt::format("{}: written, {}, {} of it as it lay in the original; {} kept, {} compared\n",
                      escape(result.written), human_size(result.new_size), human_size(result.kept_bytes),
                      kept, grouped(result.compared));
  if (!result.original.empty()) text += fmt::format("{}: the original\n", escape(result.original));
  for (const WrittenFile& file : result.beside) {
    text += fmt::format("{}: written, a part of it\n", escape(file.path));
    if (!file.replaced.empty()) text += fmt::format("{}: the original\n", escape(file.replaced));
  }
  return text;
}

}  // namespace operculum
