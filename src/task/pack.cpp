#include "task/pack.h"

#include <dirent.h>
#include <fmt/format.h>

#include <algorithm>
#include <cerrno>
#include <memory>

#include "base/error.h"
#include "base/text.h"
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
  FileToMake what = formats_of(request.as);
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
  std::unique_ptr<DIR, int (*)(DIR*)> open(opendir(folder.c_str()), closedir);
  if (!open) throw IoError(escape(folder), errno);
  std::vector<std::string> names;
  while (const dirent* one = readdir(open.get())) {
    if (one->d_name[0] != '.') names.emplace_back(one->d_name);
  }
  if (names.empty()) return {name, "nothing else is in the folder"};
  auto [first, last] = std::minmax_element(names.begin(), names.end());
  std::string chosen = name;
  auto fits = [&] { return among == Among::first ? chosen < *first : *last < chosen; };
  std::string front = among == Among::first ? "0" : "z";
  while (!fits()) {
    // No longer than the name that it has to pass: then only a lower or higher letter helps.
    if (front.size() > std::max(first->size(), last->size()) + 1) {
      throw Unsupported(fmt::format("a name {} \"{}\", made of letters and digits",
                                    among == Among::first ? "in front of" : "behind",
                                    escape(among == Among::first ? *first : *last)));
    }
    chosen = front + "-" + name;
    front += among == Among::first ? '0' : 'z';
  }
  std::string reason = among == Among::first
                           ? fmt::format("it sorts in front of \"{}\", the first there", escape(*first))
                           : fmt::format("it sorts behind \"{}\", the last there", escape(*last));
  return {chosen, reason + ", byte by byte"};
}

}  // namespace operculum
