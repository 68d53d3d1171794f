#include "task/discard.h"

#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <filesystem>
#include <unordered_set>

#include "base/path_parts.h"
#include "base/text.h"
#include "io/descriptor.h"
#include "io/digest.h"
#include "io/file_source.h"
#include "io/output_folder.h"
#include "io/stream.h"

namespace operculum {
namespace {

/// What counts each kind of DiscardEvent, in their order.
constexpr std::uint64_t DiscardTotals::*kTotals[] = {&DiscardTotals::removed, &DiscardTotals::changed,
                                                     &DiscardTotals::missing, &DiscardTotals::failed,
                                                     &DiscardTotals::returned};

/// Takes back one receipt.
class Discard {
 public:
  Discard(const Receipt& receipt, bool dry_run, const std::function<void(const DiscardEvent&)>& sink)
      : receipt_(receipt),
        dry_run_(dry_run),
        sink_(sink),
        folder_(receipt.folder, OutputFolder::Must::be_there),
        seal_(receipt.seal()) {}

  DiscardTotals run() {
    // an empty folder is what a run that was killed at its very end leaves: nothing in it can be mistaken
    std::error_code unreadable;
    bool empty = std::filesystem::is_empty(receipt_.folder, unreadable) && !unreadable;
    if (!empty) check_seal();
    for (Receipt::Kind kind : {Receipt::Kind::link, Receipt::Kind::hard_link, Receipt::Kind::file}) {
      for (const Receipt::Item& item : receipt_.items) {
        if (item.kind == kind) remove(item);
      }
    }
    if (!dry_run_) {
      remove_folders();
      // the seal goes last: whoever is killed before can go on
      if (totals_.failed == 0 && !empty) folder_.remove_file(Receipt::seal_path(seal_));
      rmdir(receipt_.folder.c_str());
    }
    return totals_;
  }

 private:
  void check_seal() const {
    std::string place = Receipt::seal_path(seal_);
    Descriptor file = folder_.open_file(place);
    std::string found;
    if (file) {
      SourcePtr source = make_file_source(std::move(file));
      found = as_text(read_up_to(*source, 0, 64));
    }
    if (found != seal_) {
      throw Malformed(fmt::format(
          "the receipt does not belong to the folder {}: its seal {} is {}; nothing is removed",
          escape(receipt_.folder), escape(place), found.empty() ? "not there" : "that of other contents"));
    }
  }

  void remove(const Receipt::Item& item) {
    if (make_safe(item.path, NameRules::here).path != item.path ||
        (!item.replaced().empty() && make_safe(item.replaced(), NameRules::here).path != item.replaced()))
      return tell(DiscardEvent::Kind::failed, item.path, "it leads out of the folder");
    try {
      if (!folder_.exists(item.path))
        return tell(DiscardEvent::Kind::missing, item.path, "it is not there any more");
      if (!is_unchanged(item))
        return tell(DiscardEvent::Kind::changed, item.path, "it was changed since, so it stays");
      if (!dry_run_) folder_.remove_file(item.path);
      tell(DiscardEvent::Kind::removed, item.path, "");
      if (item.replaced().empty()) return;
      if (!dry_run_ && !folder_.rename_file(std::string(item.replaced()), item.path)) return;
      tell(DiscardEvent::Kind::returned, item.path, "the file that was there before is back");
    } catch (const std::exception& thrown) {
      tell(DiscardEvent::Kind::failed, item.path, as_error(thrown).what());
    }
  }

  bool is_unchanged(const Receipt::Item& item) const {
    if (item.kind == Receipt::Kind::link) return folder_.link_target(item.path) == item.link_target();
    Descriptor file = folder_.open_file(item.path);
    if (!file) return false;
    SourcePtr source = make_file_source(std::move(file));
    return source->size() == item.size && sha256_from(sha256_of(*source)) == item.sha256;
  }

  /// Innermost first; those that hold anything else stay.
  void remove_folders() {
    std::unordered_set<std::string> seen;
    std::string_view last;  // most items lie in the folder of the one before
    for (const Receipt::Item& item : receipt_.items) {
      if (make_safe(item.path, NameRules::here).path != item.path) continue;
      bool is_folder = item.kind == Receipt::Kind::folder;
      std::string_view folder = is_folder ? std::string_view(item.path) : parent_of(item.path);
      if (folder == last) continue;
      last = folder;
      while (!folder.empty() && seen.insert(std::string(folder)).second) folder = parent_of(folder);
    }
    std::vector<std::string> folders(seen.begin(), seen.end());
    std::sort(folders.begin(), folders.end(), [](const std::string& a, const std::string& b) {
      return a.size() != b.size() ? a.size() > b.size() : a < b;
    });
    for (const std::string& folder : folders) folder_.remove_folder_if_empty(folder);
  }

  void tell(DiscardEvent::Kind kind, const std::string& path, std::string message) {
    ++(totals_.*kTotals[static_cast<std::size_t>(kind)]);
    sink_({kind, path, std::move(message)});
  }

  const Receipt& receipt_;
  bool dry_run_;
  const std::function<void(const DiscardEvent&)>& sink_;
  OutputFolder folder_;
  const std::string seal_;
  DiscardTotals totals_;
};

}  // namespace

DiscardTotals discard(const Receipt& receipt, bool dry_run,
                      const std::function<void(const DiscardEvent&)>& sink) {
  return Discard(receipt, dry_run, sink).run();
}

}  // namespace operculum
