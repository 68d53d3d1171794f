#pragma once

#include "container/locator.h"
#include "io/output_folder.h"
#include "task/progress.h"
#include "task/selection.h"

namespace operculum {

/// What to do with symbolic links. They are always made last, and nothing is ever written through one.
enum class LinkRule {
  rooted,  ///< make them; absolute targets are kept, as trees of a system mean them; those that climb out
           ///< with ".." are left out
  inside,  ///< only those that stay beneath the output folder
  stored,  ///< all, just as stored
  none,
};

/// Where entries go, which, and what may happen to what is there.
struct UnpackRequest {
  std::string into;       ///< the output folder; made when the first thing is written
  bool into_new = false;  ///< it must be a new one: where its name is taken, a numbered one is made
  std::shared_ptr<OutputFolder> folder =
      {};  ///< it, where it was made before; into_new: for this very request
  Selection selection;
  bool deep = false;                    ///< into nested containers, too
  bool programs = false;                ///< with deep, also into programs that carry containers
  bool flat = false;                    ///< all files directly in the output folder
  bool dry_run = false;                 ///< plan only; nothing is written
  bool keep_damaged = false;            ///< keep what could be decoded of damaged files, as NAME.damaged
  bool keep_packed = false;             ///< files as they lie in the container, packed as they are
  bool keep_going = true;               ///< after a damaged entry
  bool devices = false;                 ///< make devices, fifos and sockets
  bool special_modes = false;           ///< keep set-user-id, set-group-id and sticky bits
  bool exact_modes = false;             ///< permission bits as stored, whatever the umask says
  bool owners = false;                  ///< give files the owners that are stored, by number
  bool attributes = false;              ///< set the extended attributes that are stored
  std::string origin;                   ///< an origin mark that everything unpacked gets; empty: none
  std::string name_as;                  ///< a NameTemplate for the output names of files; empty: their paths
  std::vector<std::string> only_kinds;  ///< by content, see KindReader; empty: files of every kind
  std::vector<std::string> refuse_kinds;  ///< when a wanted file is of one of these, nothing is written
  bool digests = false;                   ///< compute SHA-256 of what is written
  bool keep_replaced = false;  ///< what is replaced stays beside the new file, see UnpackEvent::replaced
  Existing existing = Existing::keep;
  LinkRule links = LinkRule::rooted;
  NameRules names = NameRules::here;
  bool lower_case = false;  ///< output names in small letters
  unsigned jobs = 0;        ///< threads; 0: one for each processor
};

/// One thing that happened, in stored order.
struct UnpackEvent {
  enum class Kind {
    file,
    folder,
    link,
    device,    ///< written (or, in a dry run, would be)
    kept,      ///< not written, because something is there
    left_out,  ///< not written, by rule; the message says which
    failed,    ///< could not be unpacked
    note,
    warning,
    fault,  ///< about a container as a whole
  };
  Kind kind;
  std::string path;        ///< as stored, through nested containers
  std::string output;      ///< beneath the output folder
  std::uint64_t size = 0;  ///< unpacked bytes
  std::string sha256;
  std::string message;                     ///< what was changed, or why not
  ErrorKind error = ErrorKind::malformed;  ///< for failed
  std::string_view cause = {};             ///< what many messages have in common; empty: the message itself
  std::string link_target = {};  ///< of a link: what it says; of a hard link the output path it shares
  bool hard_link = false;        ///< of a link
  std::string replaced = {};     ///< the output path that what was there before has now
};

/// How many entries became what.
struct UnpackTotals {
  std::uint64_t files = 0, folders = 0, links = 0, devices = 0, bytes = 0;
  std::uint64_t kept = 0, left_out = 0, failed = 0, faults = 0;
  std::uint64_t not_portable = 0;  ///< names that other systems would refuse
  std::uint64_t modes_cut = 0;     ///< set-id and sticky bits left out
  std::string into;                ///< the output folder; empty when nothing was written
  bool key_needed = false;         ///< some failed for want of a password
  bool stopped = false;            ///< ended early, by Progress::stop or because keep_going was off
};

using UnpackSink = std::function<void(const UnpackEvent&)>;

/// Unpacks what `place` names into request.into. Events arrive one at a time, in stored order, from any
/// thread. Throws GuardTripped when a guard ended the run, IoError when the output folder cannot be used.
UnpackTotals unpack(const Place& place, const UnpackRequest& request, OpenContext& context,
                    Progress& progress, const UnpackSink& sink);

}  // namespace operculum
