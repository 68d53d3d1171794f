#include "format/package/msi_install.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"

namespace operculum::msi {
namespace {

constexpr int kMostNested = 200;
constexpr std::string_view kRoot = "TARGETDIR", kFolderWord = "Folder";
enum FileAttribute : std::int32_t {
  read_only_attribute = 1,
  not_compressed_attribute = 0x2000,
  compressed_attribute = 0x4000
};

/// Directories that Windows Installer knows by these keys, whatever the table says about them.
constexpr std::string_view kPlaces[] = {
    "AdminToolsFolder",   "AppDataFolder",        "CommonAppDataFolder", "CommonFiles64Folder",
    "CommonFilesFolder",  "DesktopFolder",        "FavoritesFolder",     "FontsFolder",
    "LocalAppDataFolder", "MyPicturesFolder",     "NetHoodFolder",       "PersonalFolder",
    "PrintHoodFolder",    "ProgramFiles64Folder", "ProgramFilesFolder",  "ProgramMenuFolder",
    "RecentFolder",       "SendToFolder",         "StartMenuFolder",     "StartupFolder",
    "System16Folder",     "System64Folder",       "SystemFolder",        "TempFolder",
    "TemplateFolder",     "WindowsFolder",        "WindowsVolume"};

/// "ProgramFiles" for "ProgramFilesFolder", also with a module's number behind it; empty for other keys.
std::string place_of(std::string_view key) {
  std::string_view plain = key.substr(0, key.find('.'));
  if (std::find(std::begin(kPlaces), std::end(kPlaces), plain) == std::end(kPlaces)) return "";
  if (plain.ends_with(kFolderWord)) plain.remove_suffix(kFolderWord.size());
  return std::string(plain);
}

std::string joined(const std::string& folder, std::string_view name) {
  if (name.empty() || name == ".") return folder;
  return folder.empty() ? std::string(name) : folder + "/" + std::string(name);
}

struct Directory {
  std::string parent, target, source;  // names, without those of the folders around
  bool root = false;
};

class TreeReader {
 public:
  TreeReader(const Database& database, bool compressed, bool short_names, Container& container)
      : database_(database), compressed_(compressed), short_names_(short_names), container_(container) {}

  InstallTree read() {
    read_directories();
    read_components();
    read_media();
    read_hashes();
    read_files();
    return std::move(tree_);
  }

 private:
  std::string_view source_name(std::string_view both) const {
    return short_names_ ? both.substr(0, both.find('|')) : long_name(both);
  }

  void read_directories() {
    const Table* table = database_.table("Directory");
    if (table == nullptr) return;
    auto key = table->find_column("Directory"), parent = table->find_column("Directory_Parent"),
         name = table->find_column("DefaultDir");
    for (std::size_t row = 0; row < table->rows(); ++row) {
      Directory one;
      std::string own(table->text(row, key));
      one.parent = table->text(row, parent);
      one.root = one.parent.empty() || one.parent == own;
      std::string_view both = table->text(row, name);
      std::size_t colon = both.find(':');
      one.target = long_name(both.substr(0, colon));
      one.source = source_name(colon == std::string_view::npos ? both : both.substr(colon + 1));
      directories_[own] = std::move(one);
    }
    for (const auto& [own, directory] : directories_) tree_.folders[own] = target_of(own, 0);
  }

  std::string target_of(const std::string& key, int depth) {
    if (std::string place = place_of(key); !place.empty()) return place;
    if (key == kRoot) return "";
    auto found = directories_.find(key);
    if (found == directories_.end() || depth > kMostNested) return told_broken(key);
    const Directory& own = found->second;
    if (own.root) return own.target == "." || own.target == "SourceDir" ? "" : own.target;
    return joined(target_of(own.parent, depth + 1), own.target);
  }

  std::string source_of(const std::string& key, int depth) {
    auto found = directories_.find(key);
    if (found == directories_.end() || depth > kMostNested) return "";
    const Directory& own = found->second;
    if (own.root) return "";  // it stands for the folder of the database
    return joined(source_of(own.parent, depth + 1), own.source);
  }

  std::string told_broken(const std::string& key) {
    container_.add_finding(Finding::Level::warning,
                           fmt::format("the folder \"{}\" is not described, or lies in itself", escape(key)));
    return key;
  }

  void read_components() {
    const Table* table = database_.table("Component");
    if (table == nullptr) return;
    auto key = table->find_column("Component"), directory = table->find_column("Directory_");
    for (std::size_t row = 0; row < table->rows(); ++row)
      components_[std::string(table->text(row, key))] = table->text(row, directory);
  }

  void read_media() {
    if (const Table* table = database_.table("Media")) {
      auto last = table->find_column("LastSequence"), cabinet = table->find_column("Cabinet");
      for (std::size_t row = 0; row < table->rows(); ++row)
        tree_.media.push_back({table->number(row, last).value_or(0), std::string(table->text(row, cabinet))});
      std::stable_sort(tree_.media.begin(), tree_.media.end(),
                       [](const Media& a, const Media& b) { return a.last_sequence < b.last_sequence; });
    } else if (database_.stream(kModuleCabinet)) {
      tree_.media.push_back({INT32_MAX, "#" + std::string(kModuleCabinet)});
    }
  }

  void read_hashes() {
    const Table* table = database_.table("MsiFileHash");
    if (table == nullptr) return;
    auto key = table->find_column("File_");
    std::optional<std::size_t> parts[4];
    for (int i = 0; i < 4; ++i) parts[i] = table->find_column(fmt::format("HashPart{}", i + 1));
    for (std::size_t row = 0; row < table->rows(); ++row) {
      Bytes md5;
      for (auto part : parts) {
        auto value = static_cast<std::uint32_t>(table->number(row, part).value_or(0));
        for (unsigned i = 0; i < 4; ++i) md5.push_back(static_cast<Byte>(value >> (8 * i)));
      }
      bool none = std::all_of(md5.begin(), md5.end(), [](Byte b) { return b == 0; });
      if (!none) hashes_[std::string(table->text(row, key))] = std::move(md5);
    }
  }

  void read_files() {
    const Table* table = database_.table("File");
    if (table == nullptr) return;
    auto key = table->find_column("File"), component = table->find_column("Component_"),
         name = table->find_column("FileName"), size = table->find_column("FileSize"),
         version = table->find_column("Version"), attributes = table->find_column("Attributes"),
         sequence = table->find_column("Sequence");
    std::vector<std::pair<std::int32_t, InstalledFile>> found;
    found.reserve(table->rows());
    for (std::size_t row = 0; row < table->rows(); ++row) {
      InstalledFile file;
      file.key = table->text(row, key);
      std::string_view both = table->text(row, name);
      std::string folder = folder_of(std::string(table->text(row, component)), file.key);
      auto known = tree_.folders.find(folder);
      file.path = joined(known == tree_.folders.end() ? folder : known->second, long_name(both));
      file.size = static_cast<std::uint32_t>(table->number(row, size).value_or(0));
      file.version = table->text(row, version);
      std::int32_t bits = table->number(row, attributes).value_or(0);
      file.read_only = (bits & read_only_attribute) != 0;
      std::int32_t number = table->number(row, sequence).value_or(0);
      auto media = std::lower_bound(tree_.media.begin(), tree_.media.end(), number,
                                    [](const Media& one, std::int32_t n) { return one.last_sequence < n; });
      file.media = static_cast<std::size_t>(media - tree_.media.begin());
      bool packed =
          (bits & compressed_attribute) != 0 || (compressed_ && (bits & not_compressed_attribute) == 0);
      file.loose = !packed || media == tree_.media.end() || media->cabinet.empty();
      if (file.loose) file.source = joined(source_of(folder, 0), source_name(both));
      if (auto hash = hashes_.find(file.key); hash != hashes_.end()) file.md5 = hash->second;
      tree_.key_paths[file.key] = file.path;
      found.emplace_back(number, std::move(file));
    }
    std::stable_sort(found.begin(), found.end(),
                     [](const auto& a, const auto& b) { return a.first < b.first; });
    tree_.files.reserve(found.size());
    for (auto& [number, file] : found) tree_.files.push_back(std::move(file));
  }

  std::string folder_of(const std::string& component, const std::string& file) {
    auto found = components_.find(component);
    if (found != components_.end()) return found->second;
    container_.add_finding(Finding::Level::warning,
                           fmt::format("the file \"{}\" belongs to a component that is "
                                       "not there: \"{}\"",
                                       escape(file), escape(component)));
    return "";
  }

  const Database& database_;
  bool compressed_, short_names_;
  Container& container_;
  InstallTree tree_;
  std::map<std::string, Directory> directories_;
  std::map<std::string, std::string> components_;  // to the key of its folder
  std::map<std::string, Bytes> hashes_;            // by file key
};

}  // namespace

std::string_view long_name(std::string_view both) {
  std::size_t bar = both.find('|');
  return bar == std::string_view::npos ? both : both.substr(bar + 1);
}

InstallTree read_install_tree(const Database& database, bool compressed, bool short_names,
                              Container& container) {
  return TreeReader(database, compressed, short_names, container).read();
}

}  // namespace operculum::msi
