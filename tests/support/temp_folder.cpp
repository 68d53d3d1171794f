#include "support/temp_folder.h"

#include <algorithm>
#include <cstdlib>
#include <fstream>
#include <stdexcept>
#include <vector>

namespace operculum::test {

namespace fs = std::filesystem;

TempFolder::TempFolder() {
  std::string pattern = (fs::temp_directory_path() / "operculum-test-XXXXXX").string();
  if (mkdtemp(pattern.data()) == nullptr) throw std::runtime_error("cannot make a temporary folder");
  path_ = pattern;
}

TempFolder::~TempFolder() {
  std::error_code ignored;
  for (auto it = fs::recursive_directory_iterator(path_, ignored); it != fs::recursive_directory_iterator();
       it.increment(ignored)) {
    if (it->is_directory(ignored) && !it->is_symlink(ignored))
      fs::permissions(it->path(), fs::perms::owner_all, fs::perm_options::add, ignored);
  }
  fs::remove_all(path_, ignored);
}

std::string TempFolder::write(const std::string& name, ByteView bytes) const {
  fs::path full = path(name);
  fs::create_directories(full.parent_path());
  std::ofstream file(full, std::ios::binary);
  file.write(reinterpret_cast<const char*>(bytes.data()), static_cast<std::streamsize>(bytes.size()));
  if (!file) throw std::runtime_error("cannot write " + full.string());
  return full.string();
}

std::string TempFolder::read(const std::string& name) const {
  return read_file(path(name));
}

std::string read_file(const std::string& path) {
  std::ifstream file(path, std::ios::binary | std::ios::ate);
  if (!file) throw std::runtime_error("cannot read " + path);
  std::string all(static_cast<std::size_t>(file.tellg()), '\0');
  file.seekg(0);
  file.read(all.data(), static_cast<std::streamsize>(all.size()));
  return all;
}

std::string TempFolder::listing(const std::string& name) const {
  std::vector<std::string> paths;
  if (!fs::exists(path(name))) return "";
  for (const auto& item : fs::recursive_directory_iterator(path(name))) {
    std::string relative = fs::relative(item.path().parent_path(), path(name)).string();
    relative =
        relative == "." ? item.path().filename().string() : relative + "/" + item.path().filename().string();
    if (item.is_directory() && !item.is_symlink()) relative += "/";
    paths.push_back(relative);
  }
  std::sort(paths.begin(), paths.end());
  std::string out;
  for (const std::string& one : paths) out += (out.empty() ? "" : " ") + one;
  return out;
}

}  // namespace operculum::test
