#include "task/unpack_target.h"

#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/path_parts.h"
#include "io/origin.h"

namespace operculum {
namespace {

std::uint32_t process_umask() {
  std::uint32_t mask = umask(022);
  umask(static_cast<mode_t>(mask));
  return mask;
}

constexpr std::uint32_t kSpecialBits = 07000;  // set-user-id, set-group-id, sticky

/// Attributes that mean the same everywhere: those of the system (lists of access rights) have another form
/// on disk than in calls.
bool settable(std::string_view name, bool special) {
  if (name == "security.capability" && !special) return false;  // as mighty as a set-user-id bit
  return name.starts_with("user.") ||
         (geteuid() == 0 && (name.starts_with("trusted.") || name.starts_with("security.")));
}

bool there(const std::string& path) {
  struct stat status {};
  return lstat(path.c_str(), &status) == 0;
}

}  // namespace

UnpackTarget::UnpackTarget(const UnpackRequest& request, const std::string& inside, Meter& meter,
                           Progress& progress)
    : request_(request),
      base_(folder_part(inside)),
      umask_(process_umask()),
      fresh_(request.into_new || !there(request.into)),
      meter_(meter),
      progress_(progress) {}

OutputFolder& UnpackTarget::folder() {
  std::call_once(opened_, [this] {
    folder_ = request_.folder;
    if (!folder_) {
      auto must = request_.into_new ? OutputFolder::Must::be_new : OutputFolder::Must::exist;
      folder_ = std::make_shared<OutputFolder>(request_.into, must);
    }
    writer_.emplace(*folder_, request_, meter_, progress_);
    open_ = folder_.get();
  });
  return *folder_;
}

FileWriter& UnpackTarget::writer() {
  folder();
  return *writer_;
}

bool UnpackTarget::already_there(const std::string& output) const {
  if (fresh_) return false;
  const OutputFolder* folder = open_;
  return folder != nullptr ? folder->exists(output) : there(request_.into + "/" + output);
}

std::optional<std::string> UnpackTarget::link_at(const std::string& output) const {
  const OutputFolder* folder = open_;
  return fresh_ || folder == nullptr ? std::nullopt : folder->link_target(output);
}

bool UnpackTarget::loses_mode_bits(const Entry& entry) const {
  bool has_mode = entry.kind == EntryKind::file || entry.kind == EntryKind::folder;
  return has_mode && !request_.special_modes && entry.mode != Entry::kNoMode &&
         (entry.mode & kSpecialBits) != 0;
}

FileMetadata UnpackTarget::metadata_of(const Entry& entry) const {
  std::uint32_t mode = entry.mode;
  if (mode == Entry::kNoMode) mode = entry.kind == EntryKind::folder ? 0777 : 0666;
  if (!request_.exact_modes) mode &= ~umask_;
  if (!request_.special_modes) mode &= ~kSpecialBits;
  FileMetadata metadata{mode, entry.modified, owner_of(entry), {}};
  if (request_.attributes && entry.extra) {
    for (const auto& attribute : entry.extra->attributes) {
      if (settable(attribute.first, request_.special_modes)) metadata.attributes.push_back(attribute);
    }
  }
  if (entry.kind == EntryKind::file) {
    std::erase_if(metadata.attributes, [](const auto& one) { return one.first == kOriginAttribute; });
    if (!request_.origin.empty()) metadata.attributes.emplace_back(kOriginAttribute, request_.origin);
  }
  return metadata;
}

std::optional<Owner> UnpackTarget::owner_of(const Entry& entry) const {
  if (!request_.owners || !entry.extra) return std::nullopt;
  return Owner{entry.extra->user_id, entry.extra->group_id};
}

std::string_view UnpackTarget::beneath(std::string_view path) const {
  if (path.starts_with(base_)) path.remove_prefix(base_.size());
  return request_.flat ? base_name(path) : path;
}

void with_errors(FileJob& job, Progress& progress, const std::function<void()>& work) {
  try {
    work();
  } catch (const GuardTripped&) {
    throw;
  } catch (const CannotWrite&) {
    throw;
  } catch (const std::exception& thrown) {
    Error error = as_error(thrown);
    job.event.kind = UnpackEvent::Kind::failed;
    job.event.error = error.kind();
    job.event.message =
        job.event.message.empty() ? error.what() : fmt::format("{}; {}", error.what(), job.event.message);
    job.event.size = 0;
  }
  ++progress.entries;
}

}  // namespace operculum
