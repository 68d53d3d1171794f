#include "layout/library.h"

#include <fmt/format.h>

#include <algorithm>
#include <cerrno>
#include <filesystem>
#include <fstream>

#include "base/error.h"
#include "base/text.h"
#include "io/file_source.h"
#include "layout/described_format.h"

namespace operculum::layout {
namespace {

constexpr std::string_view kEnding = ".layout";
constexpr std::uint64_t kLargest = 1 << 20;        // bytes of a description
constexpr std::uint64_t kLargestNames = 64 << 20;  // bytes of a list of names

std::string read_text(const std::string& path, std::uint64_t most, const char* what) {
  SourcePtr source = open_file(path);
  if (source->size() > most)
    throw LimitExceeded(fmt::format("{}: {} of more than {} bytes", escape(path), what, most));
  Bytes bytes = read_up_to(*source, 0, source->size());
  return std::string(as_text(bytes));
}

}  // namespace

std::string layout_name(const std::string& path) {
  std::string name = std::filesystem::path(path).filename().string();
  if (name.ends_with(kEnding)) name.resize(name.size() - kEnding.size());
  return name;
}

std::vector<std::string> read_names(const std::string& path) {
  std::string text = read_text(path, kLargestNames, "a list of names");
  std::vector<std::string> names;
  for (std::string_view line : split(text, '\n')) {
    line = trim(line);
    if (!line.empty() && !line.starts_with('#')) names.emplace_back(line);
  }
  return names;
}

Found Library::read(const std::string& path, Trust trust) {
  Found found{path, {}};
  std::string text = read_text(path, kLargest, "a description");
  Description description{std::filesystem::path(path).filename().string(), std::move(text)};
  found.compiled = compile(
      std::move(description),
      [&](const std::string& file) {
        std::string beside = (std::filesystem::path(path).parent_path() / file).string();
        bool there = file.find('/') == std::string::npos && std::filesystem::exists(beside);
        return there ? read_names(beside) : std::vector<std::string>();
      },
      trust == Trust::stranger);
  return found;
}

void Library::add_folder(const std::string& folder) {
  std::error_code error;
  std::vector<std::string> paths;
  for (const auto& item : std::filesystem::directory_iterator(folder, error)) {
    if (item.path().extension() == kEnding) paths.push_back(item.path().string());
  }
  std::sort(paths.begin(), paths.end());
  for (const std::string& path : paths) {
    if (find(layout_name(path)) != nullptr) continue;
    try {
      all_.push_back(read(path, Trust::own));
    } catch (const Error& failed) {
      Found broken{path, {}};
      broken.compiled.problems.push_back({Problem::Level::error, {}, failed.what(), ""});
      all_.push_back(std::move(broken));
    }
  }
}

const Found* Library::find(const std::string& name) const {
  auto found =
      std::find_if(all_.begin(), all_.end(), [&](const Found& one) { return layout_name(one.path) == name; });
  return found == all_.end() ? nullptr : &*found;
}

std::span<const Format> Library::formats() {
  if (formats_.empty()) {
    for (const Found& one : all_) {
      if (one.compiled.plan) formats_.push_back(described_format(one.compiled.plan, Chosen::by_content));
    }
  }
  return formats_;
}

}  // namespace operculum::layout
