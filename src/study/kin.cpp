// Files of one kind are built alike: what explains one of them by chance hardly explains the others, and what
// a short one does not tell may be learned from a longer one.
#include "study/kin.h"

namespace operculum::study {
namespace {

constexpr std::size_t kMostKinTried = 6, kMostStudied = 3;  // files
constexpr std::uint64_t kMostReadOfKin = 1 << 20;           // bytes of entries that are read on trial
constexpr double kNearlyWhole = 0.95;

Subject alone(const NamedFile& file) {
  return {file.source, file.name, std::nullopt};
}

/// Whether a description fits: all that was read of it is right, and hardly a byte is left over.
bool is_whole(const Trial& trial) {
  return trial.failure.empty() && trial.read > 0 && trial.failed == 0 && trial.explained > kNearlyWhole;
}

}  // namespace

std::size_t fitting(const std::string& draft, const std::vector<NamedFile>& kin, std::uint64_t size,
                    OpenContext& context) {
  std::size_t tried = 0, fits = 0;
  for (const NamedFile& file : kin) {
    if (file.source->size() == size || ++tried > kMostKinTried) continue;
    fits += is_whole(try_draft(draft, alone(file), context, kMostReadOfKin)) ? 1 : 0;
  }
  return fits;
}

std::optional<Drafted> learned_from_kin(const Material& material, OpenContext& context) {
  std::size_t looked_at = 0;
  for (const NamedFile& file : material.kin) {
    if (looked_at++ == kMostStudied) break;
    Findings findings = study({file, material.same}, context);
    if (!findings.solved()) continue;
    Drafted drafted = std::move(findings.drafts.front());
    if (drafted.subject.index) continue;  // of two files
    drafted.subject = alone(material.file);
    drafted.trial = try_draft(drafted.text, drafted.subject, context, kMostReadOfKin);
    drafted.learned_from = file.name;
    if (is_whole(drafted.trial)) return drafted;
  }
  return std::nullopt;
}

}  // namespace operculum::study
