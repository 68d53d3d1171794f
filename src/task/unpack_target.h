#pragma once

#include <atomic>
#include <mutex>

#include "task/file_writer.h"

namespace operculum {

/// Where unpacked entries go, and what is there already. In a dry run nothing is made.
class UnpackTarget {
 public:
  /// `inside` is the path that was named in the container: folders above it are left out of output paths.
  UnpackTarget(const UnpackRequest& request, const std::string& inside, Meter& meter, Progress& progress);

  bool dry() const { return request_.dry_run; }
  OutputFolder& folder();  ///< made when it is first asked for; not in a dry run. Throws CannotWrite.
  FileWriter& writer();    ///< not in a dry run
  /// The folder, when anything was written into it.
  OutputFolder* folder_if_used() { return folder_.get(); }

  bool already_there(const std::string& output) const;
  FileMetadata metadata_of(const Entry& entry) const;
  bool loses_mode_bits(
      const Entry& entry) const;  ///< set-id and sticky bits that are stored and not asked for
  std::optional<std::string> link_at(
      const std::string& output) const;                     ///< what a link that is there already says
  std::optional<Owner> owner_of(const Entry& entry) const;  ///< when owners are wanted and stored

  /// A stored path as it is wanted in the output folder, before names are made safe.
  std::string_view beneath(std::string_view path) const;

 private:
  const UnpackRequest& request_;
  std::string base_;  // stored folders above what was named
  std::uint32_t umask_;
  bool fresh_;  // nothing was in the output folder before
  Meter& meter_;
  Progress& progress_;
  std::once_flag opened_;
  std::shared_ptr<OutputFolder> folder_;
  std::atomic<const OutputFolder*> open_ =
      nullptr;  // the same, once it is there: for whoever does not open it
  std::optional<FileWriter> writer_;
};

/// Runs `work`; what it throws for this entry alone is noted in the job. Throws GuardTripped.
void with_errors(FileJob& job, Progress& progress, const std::function<void()>& work);

}  // namespace operculum
