#include "report/rebuild_text.h"

#include <fmt/format.h>

#include "base/text.h"
#include "base/units.h"
#include "report/records.h"

namespace operculum {
namespace {

Shown line_of(const Fate& fate) {
  Shown text = shown("{}: {}", escape(fate.path), name_of(fate.kind));
  if (fate.kind == Fate::Kind::renamed) text += shown(" to {}", escape(fate.new_path));
  bool both = fate.old_size != Entry::kUnknownSize && fate.new_size != Entry::kUnknownSize;
  if (fate.kind == Fate::Kind::changed && both)
    text += shown(", {} to {}", human_size(fate.old_size), human_size(fate.new_size));
  if (fate.kind == Fate::Kind::added) text += shown(", {}", human_size(fate.new_size));
  text += "\n";
  for (const std::string& note : fate.notes) text += shown("  {}\n", note);
  return text;
}

}  // namespace

Shown rebuild_text(const RebuildResult& result, const std::string& target, bool dry_run) {
  Shown text;
  for (const Fate& fate : result.fates) text += line_of(fate);
  if (result.trimmed > 0)
    text += shown("{:<8} {} of filling ({} bytes)\n", "trimmed", human_size(result.trimmed),
                  grouped(result.trimmed));
  std::string kept = counted(result.kept_entries, "other entry", "other entries");
  if (result.fates.empty() && result.written.empty() && !dry_run)
    return text + shown("{}: nothing differs, so nothing was written\n", escape(target));
  if (dry_run) {
    return text + shown("{}: would become {}, from {}; {} kept as they lie\n", escape(target),
                        human_size(result.new_size), human_size(result.old_size), kept);
  }
  text += shown("{}: written, {}, {} of it as it lay in the original; {} kept, {} compared\n",
                escape(result.written), human_size(result.new_size), human_size(result.kept_bytes), kept,
                grouped(result.compared));
  if (!result.original.empty()) text += shown("{}: the original\n", escape(result.original));
  for (const WrittenFile& file : result.beside) {
    text += shown("{}: written, a part of it\n", escape(file.path));
    if (!file.replaced.empty()) text += shown("{}: the original\n", escape(file.replaced));
  }
  return text;
}

}  // namespace operculum
