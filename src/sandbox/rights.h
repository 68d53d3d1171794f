#pragma once

#include <string>
#include <vector>

namespace operculum {

/// What the program may still touch of the machine once it reads strangers' bytes. Paths that are not there
/// are passed over. Everything beneath a folder counts with it.
struct Rights {
  std::vector<std::string> read;       ///< files and folders
  std::vector<std::string> write;      ///< folders in which anything may be made, changed and removed; files
  std::vector<std::string> new_files;  ///< folders in which files may be made
  std::vector<std::string> tidy;       ///< folders from which empty folders may be removed
  bool network = false;                ///< connections to servers
  bool fork = false;                   ///< a process that goes into the background
  bool owners = false;                 ///< as root: files of other owners
  bool devices = false;                ///< as root: devices
  bool attributes = false;             ///< as root: attributes that belong to the system
};

/// What of it the kernel enforces now.
struct Enforced {
  int landlock = 0;           ///< the version of Landlock's rules; 0: it has none
  bool system_calls = false;  ///< other system calls than the program needs are refused
  std::string weaker;         ///< what could not be had, for a person; empty: nothing
  bool anything() const { return landlock > 0 || system_calls; }
};

}  // namespace operculum
