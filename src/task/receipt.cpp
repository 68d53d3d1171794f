#include "task/receipt.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <filesystem>
#include <nlohmann/json.hpp>

#include "base/checksum.h"
#include "base/text.h"
#include "io/descriptor.h"
#include "io/digest.h"
#include "io/file_source.h"
#include "io/output_folder.h"
#include "io/stream.h"
#include "task/new_file.h"

namespace operculum {
namespace {

using nlohmann::ordered_json;

constexpr std::string_view kKind = "operculum receipt";
constexpr int kVersion = 2;

std::string kind_of(const UnpackEvent& event) {
  switch (event.kind) {
    case UnpackEvent::Kind::file:
      return "file";
    case UnpackEvent::Kind::folder:
      return "folder";
    case UnpackEvent::Kind::link:
      return event.hard_link ? "hard link" : "link";
    default:
      return "";
  }
}

/// Takes back one receipt.
class Discard {
 public:
  Discard(const Receipt& receipt, bool dry_run, const std::function<void(const DiscardEvent&)>& sink)
      : receipt_(receipt),
        dry_run_(dry_run),
        sink_(sink),
        folder_(receipt.folder, OutputFolder::Must::be_there) {}

  DiscardTotals run() {
    // an empty folder is what a run that was killed at its very end leaves: nothing in it can be mistaken
    std::error_code unreadable;
    bool empty = std::filesystem::is_empty(receipt_.folder, unreadable) && !unreadable;
    if (!empty) check_seal();
    for (std::string_view kind : {"link", "hard link", "file"}) {
      for (const Receipt::Item& item : receipt_.items) {
        if (item.kind == kind) remove(item);
      }
    }
    if (!dry_run_) {
      remove_folders();
      // the seal goes last: whoever is killed before can go on
      if (totals_.failed == 0 && !empty) folder_.remove_file(receipt_.seal_path());
      rmdir(receipt_.folder.c_str());
    }
    return totals_;
  }

 private:
  void check_seal() const {
    Descriptor file = folder_.open_file(receipt_.seal_path());
    std::string found;
    if (file) {
      SourcePtr source = make_file_source(std::move(file));
      found = as_text(read_up_to(*source, 0, 64));
    }
    if (found != receipt_.seal()) {
      throw Malformed(
          fmt::format("the receipt does not belong to the folder {}: its seal {} is {}; nothing is removed",
                      escape(receipt_.folder), escape(receipt_.seal_path()),
                      found.empty() ? "not there" : "that of other contents"));
    }
  }

  void remove(const Receipt::Item& item) {
    if (make_safe(item.path, NameRules::here).path != item.path ||
        (!item.replaced.empty() && make_safe(item.replaced, NameRules::here).path != item.replaced))
      return tell(DiscardEvent::Kind::failed, item.path, "it leads out of the folder");
    try {
      if (!folder_.exists(item.path))
        return tell(DiscardEvent::Kind::missing, item.path, "it is not there any more");
      if (!is_unchanged(item))
        return tell(DiscardEvent::Kind::changed, item.path, "it was changed since, so it stays");
      if (!dry_run_) folder_.remove_file(item.path);
      tell(DiscardEvent::Kind::removed, item.path, "");
      if (item.replaced.empty()) return;
      if (!dry_run_ && !folder_.rename_file(item.replaced, item.path)) return;
      tell(DiscardEvent::Kind::returned, item.path, "the file that was there before is back");
    } catch (const std::exception& thrown) {
      tell(DiscardEvent::Kind::failed, item.path, as_error(thrown).what());
    }
  }

  bool is_unchanged(const Receipt::Item& item) const {
    if (item.kind == "link") return folder_.link_target(item.path) == item.link_target;
    Descriptor file = folder_.open_file(item.path);
    if (!file) return false;
    SourcePtr source = make_file_source(std::move(file));
    return source->size() == item.size && sha256_of(*source) == item.sha256;
  }

  /// Innermost first; those that hold anything else stay.
  void remove_folders() {
    std::vector<std::string> folders;
    for (const Receipt::Item& item : receipt_.items) {
      if (make_safe(item.path, NameRules::here).path != item.path) continue;
      if (item.kind == "folder") folders.push_back(item.path);
      for (std::size_t slash = item.path.rfind('/'); slash != std::string::npos && slash > 0;
           slash = item.path.rfind('/', slash - 1)) {
        folders.push_back(item.path.substr(0, slash));
      }
    }
    std::sort(folders.begin(), folders.end(), [](const std::string& a, const std::string& b) {
      return a.size() != b.size() ? a.size() > b.size() : a < b;
    });
    folders.erase(std::unique(folders.begin(), folders.end()), folders.end());
    for (const std::string& folder : folders) folder_.remove_folder_if_empty(folder);
  }

  void tell(DiscardEvent::Kind kind, const std::string& path, std::string message) {
    switch (kind) {
      case DiscardEvent::Kind::removed:
        ++totals_.removed;
        break;
      case DiscardEvent::Kind::changed:
        ++totals_.changed;
        break;
      case DiscardEvent::Kind::missing:
        ++totals_.missing;
        break;
      case DiscardEvent::Kind::failed:
        ++totals_.failed;
        break;
      case DiscardEvent::Kind::returned:
        ++totals_.returned;
        break;
    }
    sink_({kind, path, std::move(message)});
  }

  const Receipt& receipt_;
  bool dry_run_;
  const std::function<void(const DiscardEvent&)>& sink_;
  OutputFolder folder_;
  DiscardTotals totals_;
};

}  // namespace

void Receipt::add(const UnpackEvent& event) {
  Item item{event.output, event.size, event.sha256, kind_of(event), event.link_target, event.replaced};
  if (item.kind.empty()) return;
  if (item.kind == "hard link") {
    auto shared = files_.find(event.link_target);
    if (shared == files_.end()) return;  // of a file that is not this receipt's: it stays
    item.size = items[shared->second].size;
    item.sha256 = items[shared->second].sha256;
    item.link_target.clear();
  }
  if (item.kind == "file" || item.kind == "hard link") {
    files_.insert_or_assign(item.path, items.size());
  }
  items.push_back(std::move(item));
}

std::string Receipt::seal() const {
  Sha256 digest;
  for (const Item& item : items) {
    std::string line = fmt::format("{}\n{}\n{}\n{}\n{}\n{}\n", escape(item.path), item.kind, item.size,
                                   item.sha256, escape(item.link_target), escape(item.replaced));
    digest.add(as_bytes(line));
  }
  return digest.finish_hex();
}

std::string Receipt::seal_path() const {
  constexpr std::size_t kEnough = 16;  // digits of the digest: tells seals apart
  return ".operculum-" + seal().substr(0, kEnough) + ".seal";
}

void Receipt::write(const std::string& path) const {
  ordered_json files = ordered_json::array();
  for (const Item& item : items) {
    // Bytes that are no UTF-8 would not survive JSON; escape() can be undone.
    ordered_json one = {{"path", escape(item.path)}, {"kind", item.kind}};
    if (!item.sha256.empty()) {
      one["size"] = item.size;
      one["sha256"] = item.sha256;
    }
    if (!item.link_target.empty()) one["link_target"] = escape(item.link_target);
    if (!item.replaced.empty()) one["replaced"] = escape(item.replaced);
    files.push_back(std::move(one));
  }
  ordered_json all = {{"kind", kKind},
                      {"version", kVersion},
                      {"source", escape(source)},
                      {"folder", escape(folder)},
                      {"complete", complete},
                      {"written", std::move(files)}};
  std::string text = all.dump(1) + "\n";
  write_new_text(text, path);
  if (items.empty()) return;
  OutputFile sealed = OutputFolder(folder, OutputFolder::Must::be_there).begin_file(seal_path());
  sealed.write(as_bytes(seal()));
  sealed.commit({}, Existing::keep);
}

Receipt Receipt::read(const std::string& path) {
  StreamPtr stream = make_source_stream(open_file(path));
  Bytes text = read_all(*stream, std::uint64_t{4} << 30);
  Receipt receipt;
  auto plain = [](const std::string& escaped) {
    auto value = unescape(escaped);
    if (!value) throw Malformed("the receipt has a path that is not written as this program writes it");
    return *value;
  };
  try {
    ordered_json all = ordered_json::parse(text);
    if (all.at("kind") != kKind || all.at("version") != kVersion)
      throw Malformed("the file is no receipt of this program's version");
    receipt.source = plain(all.at("source"));
    receipt.folder = plain(all.at("folder"));
    receipt.complete = all.at("complete");
    for (const ordered_json& one : all.at("written")) {
      receipt.items.push_back({plain(one.at("path")), one.value("size", std::uint64_t{0}),
                               one.value("sha256", ""), one.at("kind"), plain(one.value("link_target", "")),
                               plain(one.value("replaced", ""))});
    }
  } catch (const ordered_json::exception&) {
    throw Malformed("the file is no receipt: expected the JSON that unpack --receipt writes");
  }
  return receipt;
}

DiscardTotals discard(const Receipt& receipt, bool dry_run,
                      const std::function<void(const DiscardEvent&)>& sink) {
  return Discard(receipt, dry_run, sink).run();
}

}  // namespace operculum
