#include "task/pack.h"

#include <dirent.h>
#include <fmt/format.h>

#include <algorithm>
#include <cerrno>
#include <memory>

#include "base/error.h"
#include "base/text.h"
#include "io/kernel.h"
#include "task/folder_entries.h"
#include "task/make_file.h"

namespace operculum {
namespace {

std::vector<NewEntry> entries_of(const std::string& folder) {
  NewEntry whole = entry_from_disk(folder, std::string(base_name(folder)));
  if (whole.kind == EntryKind::folder) return entries_from_folder(folder, "");
  return {whole};
}

}  // namespace

RebuildResult pack(const PackRequest& request, OpenContext& context, Progress& progress) {
  FileToMake what = formats_of(request.as, context);
  std::vector<NewEntry> entries = entries_of(request.folder);
  if (what.container != nullptr) {
    what.entries = std::move(entries);
  } else if (entries.size() == 1 && entries[0].kind == EntryKind::file) {
    what.bytes = entries[0].content;
    what.size = entries[0].size;
  } else {
    throw Unsupported("a folder as a file that holds a single stream; a tar archive can hold it");
  }
  what.choice = request.choice;
  what.into = request.into;
  what.dry_run = request.dry_run;
  return make_file(what, context, progress);
}

ChosenName name_among(const std::string& folder, const std::string& name, Among among) {
  std::unique_ptr<DIR, int (*)(DIR*)> open(kernel::opendir(folder.c_str()), closedir);
  if (!open) throw IoError(escape(folder), errno);
  std::vector<std::string> names;
  while (const dirent* one = readdir(open.get())) {
    if (one->d_name[0] != '.') names.emplace_back(one->d_name);
  }
  if (names.empty()) return {name, "nothing else is in the folder"};
  auto ends = std::minmax_element(names.begin(), names.end());
  bool first = among == Among::first;
  const std::string& passed = first ? *ends.first : *ends.second;
  std::string chosen = name, front = first ? "0" : "z";
  auto fits = [&] { return first ? chosen < passed : passed < chosen; };
  while (!fits()) {
    // No longer than the name that it has to pass: then only a lower or higher letter helps.
    if (front.size() > passed.size() + 1) {
      throw Unsupported(fmt::format("a name {} \"{}\", made of letters and digits",
                                    first ? "in front of" : "behind", escape(passed)));
    }
    chosen = front;
    chosen.append("-").append(name);
    front += first ? '0' : 'z';
  }
  return {chosen, fmt::format("it sorts {} \"{}\", the {} there, byte by byte",
                              first ? "in front of" : "behind", escape(passed), first ? "first" : "last")};
}

}  // namespace operculum
