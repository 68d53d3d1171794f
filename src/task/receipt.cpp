#include "task/receipt.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <nlohmann/json.hpp>

#include "base/text.h"
#include "io/descriptor.h"
#include "io/digest.h"
#include "io/file_source.h"
#include "io/output_folder.h"
#include "io/stream.h"

namespace operculum {
namespace {

using nlohmann::ordered_json;

constexpr std::string_view kKind = "operculum receipt";
constexpr int kVersion = 1;

/// Takes back one receipt.
class Discard {
 public:
  Discard(const Receipt& receipt, bool dry_run, const std::function<void(const DiscardEvent&)>& sink)
      : receipt_(receipt), dry_run_(dry_run), sink_(sink), folder_(receipt.folder) {}

  DiscardTotals run() {
    for (std::string_view kind : {"link", "file"}) {
      for (const Receipt::Item& item : receipt_.items) {
        if (item.kind == kind) remove(item);
      }
    }
    if (!dry_run_) remove_folders();
    return totals_;
  }

 private:
  void remove(const Receipt::Item& item) {
    std::string full = receipt_.folder + "/" + item.path;
    SafePath safe = make_safe(item.path, NameRules::here);
    if (safe.path != item.path)
      return tell(DiscardEvent::Kind::failed, item.path, "it leads out of the folder");
    struct stat status {};
    if (!folder_.exists(item.path) || lstat(full.c_str(), &status) != 0) {
      return tell(DiscardEvent::Kind::missing, item.path, "it is not there any more");
    }
    try {
      if (item.kind == "file") {
        if (!S_ISREG(status.st_mode) || static_cast<std::uint64_t>(status.st_size) != item.size ||
            sha256_of(*open_file(full)) != item.sha256) {
          return tell(DiscardEvent::Kind::changed, item.path, "it was changed since, so it stays");
        }
      } else if (!S_ISLNK(status.st_mode) && !(S_ISREG(status.st_mode) && status.st_nlink > 1)) {
        return tell(DiscardEvent::Kind::changed, item.path, "it is no link any more, so it stays");
      }
      if (!dry_run_) folder_.remove_file(item.path);
      tell(DiscardEvent::Kind::removed, item.path, "");
    } catch (const std::exception& thrown) {
      Error error = as_error(thrown);
      tell(DiscardEvent::Kind::failed, item.path, error.what());
    }
  }

  /// Innermost first; those that hold anything else stay.
  void remove_folders() {
    std::vector<std::string> folders;
    for (const Receipt::Item& item : receipt_.items) {
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
    rmdir(receipt_.folder.c_str());
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
  switch (event.kind) {
    case UnpackEvent::Kind::file:
      items.push_back({event.output, event.size, event.sha256, "file"});
      break;
    case UnpackEvent::Kind::folder:
      items.push_back({event.output, 0, "", "folder"});
      break;
    case UnpackEvent::Kind::link:
      items.push_back({event.output, 0, "", "link"});
      break;
    default:
      break;
  }
}

void Receipt::write(const std::string& path) const {
  ordered_json files = ordered_json::array();
  for (const Item& item : items) {
    // Bytes that are no UTF-8 would not survive JSON; escape() can be undone.
    ordered_json one = {{"path", escape(item.path)}, {"kind", item.kind}};
    if (item.kind == "file") {
      one["size"] = item.size;
      one["sha256"] = item.sha256;
    }
    files.push_back(std::move(one));
  }
  ordered_json all = {{"kind", kKind},
                      {"version", kVersion},
                      {"source", escape(source)},
                      {"folder", escape(folder)},
                      {"written", std::move(files)}};
  std::string text = all.dump(1) + "\n";
  Descriptor file(open(path.c_str(), O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, 0666));
  if (!file) throw IoError(fmt::format("cannot write the receipt {}", escape(path)), errno);
  for (std::string_view rest = text; !rest.empty();) {
    ssize_t count = ::write(file.number(), rest.data(), rest.size());
    if (count < 0 && errno == EINTR) continue;
    if (count < 0) throw IoError(fmt::format("cannot write the receipt {}", escape(path)), errno);
    rest.remove_prefix(static_cast<std::size_t>(count));
  }
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
    for (const ordered_json& one : all.at("written")) {
      receipt.items.push_back({plain(one.at("path")), one.value("size", std::uint64_t{0}),
                               one.value("sha256", ""), one.at("kind")});
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
