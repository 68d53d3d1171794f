#pragma once

#include <functional>
#include <optional>
#include <string>
#include <string_view>
#include <unordered_map>

namespace operculum {

/// Where a path leads from beneath a folder.
enum class Leads { inside, absolute, out };

/// All symbolic links that will be beneath a folder, to judge each by where it leads when all of them are
/// there: two links, each harmless by its text, can lead out together.
class LinkTree {
 public:
  /// `there` tells what a link says that lies in the folder already.
  using There = std::function<std::optional<std::string>(const std::string& path)>;
  explicit LinkTree(There there) : there_(std::move(there)) {}

  void add(const std::string& path, const std::string& target) { links_.insert_or_assign(path, target); }
  void remove(const std::string& path) { links_.erase(path); }

  /// Where the link at `path` leads. A chain of more links than a system follows leads nowhere: inside.
  Leads where(const std::string& path) const;

 private:
  std::optional<std::string> link_at(const std::string& path) const;

  There there_;
  std::unordered_map<std::string, std::string> links_;
};

}  // namespace operculum
