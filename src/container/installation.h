#pragma once

#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "base/facts.h"

namespace operculum {

/// Something that an installer would run, or have run later.
struct InstallAction {
  enum class Kind {
    script,          ///< text that an interpreter runs
    program,         ///< a program, or a function of a library, that is run once
    service,         ///< started with the machine, or on demand
    scheduled_task,  ///< started at certain times
    autostart,       ///< started when somebody logs in
  };
  Kind kind;
  std::string name;
  std::string when;     ///< "before unpacking", "after InstallFiles", "at log-in"; empty: not said
  std::string command;  ///< what is run; one line
  std::string text;     ///< of a script; may be long, with line ends
};

/// A value that an installation would write to the registry.
struct RegistryValue {
  std::string key;  ///< with its root: "HKLM\\Software\\..."
  std::string name;
  std::string value;
};

/// Bytes that an update would write into a device's memory.
struct MemoryWrite {
  std::string to;          ///< "0x8000000 to 0x8004000", "Internal Flash, 0x8000000"
  std::uint64_t size = 0;  ///< bytes
  std::string from;        ///< the entry that they are
};

/// A shortcut that an installation would make.
struct Shortcut {
  std::string path, target, about;
};

/// What an installer says that it would do, read from its tables and scripts; nothing is run. The files
/// themselves are the entries of its container.
struct Installation {
  Facts about;  ///< {"product", "..."}, {"version", "..."}
  std::vector<InstallAction> actions;
  std::vector<RegistryValue> registry;
  std::vector<Shortcut> shortcuts;
  std::vector<MemoryWrite> writes;         ///< where there are some, the entries are not files of a machine
  std::vector<std::string> needs;          ///< other packages that have to be there
  std::vector<std::string> notes;          ///< what could not be told
  std::vector<std::string> configuration;  ///< paths of files that a person may have changed since
  bool system_paths = false;  ///< paths are those of the machine; else they begin with the name of a place
};

std::string_view name_of(InstallAction::Kind kind);

}  // namespace operculum
