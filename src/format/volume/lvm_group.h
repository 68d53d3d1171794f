#pragma once

#include <map>
#include <mutex>
#include <string>
#include <vector>

#include "format/volume/lvm_text.h"
#include "format/volume/raid_array.h"

namespace operculum::lvm {

/// The logical volumes of a volume group, put together from its physical volumes (LVM2's lib/metadata).
class Group {
 public:
  /// `text` is the metadata; `physical` has the physical volumes that are there, by their ids.
  Group(std::string name, Section text, std::map<std::string, SourcePtr> physical);

  const std::string& name() const { return name_; }
  const Section& text() const { return text_; }
  std::uint64_t extent() const { return extent_; }  ///< bytes

  /// Ids of the physical volumes that are not there.
  std::vector<std::string> missing() const;

  /// What a person sees of the group.
  struct Volume {
    std::string name, type;
    std::uint64_t size = 0;  ///< bytes
    std::uint64_t made = 0;  ///< Unix time; 0: not told
    bool complete = true;    ///< all of it can be read
  };
  std::vector<Volume> volumes() const;

  /// The bytes of a logical volume, hidden ones too; what is missing is an error when it is read. Throws
  /// Malformed or Unsupported.
  SourcePtr open(const std::string& volume) const;

 private:
  const Section& volume_text(const std::string& name) const;
  std::vector<const Section*> segments(const Section& volume) const;
  std::uint64_t size_of(const Section& volume) const;
  bool is_there(const std::string& area, int depth) const;
  bool is_complete(const std::string& volume, int depth) const;
  bool parts_are_there(const std::string& volume, int depth) const;
  const Section* snapshot_of(const std::string& store) const;

  SourcePtr open_at(const std::string& volume, int depth) const;
  SourcePtr segment(const Section& text, std::uint64_t size, int depth) const;
  SourcePtr striped(const Section& text, std::uint64_t size, int depth) const;
  SourcePtr raid(const Section& text, const std::string& type, std::uint64_t size, int depth) const;
  SourcePtr thin(const Section& text, std::uint64_t size, int depth) const;
  SourcePtr area(const std::string& name, std::uint64_t first_extent, std::uint64_t size, int depth) const;

  std::string name_;
  Section text_;
  std::map<std::string, SourcePtr> physical_;  // by their names in the text
  std::map<std::string, std::string> ids_;     // name in the text: id
  std::map<std::string, std::uint64_t> starts_;
  std::uint64_t extent_ = 0;
  // each volume is put together once, however many are made of it
  mutable std::recursive_mutex mutex_;
  mutable std::map<std::string, SourcePtr> opened_;
  mutable std::map<std::string, bool> complete_;
};

}  // namespace operculum::lvm
