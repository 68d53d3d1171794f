#include "task/output_names.h"

#include <fmt/format.h>

#include "base/text.h"

namespace operculum {
namespace {

void add_remark(std::string& remark, std::string_view text) {
  if (!remark.empty()) remark += ", ";
  remark += text;
}

}  // namespace

/// On file systems that ignore case two names that differ only so are one.
std::string OutputNames::key(const std::string& path) const {
  return rules_ == NameRules::portable ? to_lower(path) : path;
}

std::string OutputNames::free_name(const std::string& path) {
  unsigned& number = numbers_.try_emplace(key(path), 1).first->second;
  for (;;) {
    std::string candidate = numbered(path, ++number);
    if (taken_.find(key(candidate)) == none) return candidate;
  }
}

std::string OutputNames::place_folder(const std::string& path, std::string& remark) {
  if (auto moved = moved_.find(path); moved != moved_.end()) return moved->second;
  std::string placed = place_parents(path, remark);
  if (taken_.mark(key(placed), folder_name) != file_name) return placed;
  std::string other = free_name(placed);
  taken_.mark(key(other), folder_name);
  moved_.emplace(path, other);
  add_remark(remark, "a file of the same name as its folder came first");
  return other;
}

std::string OutputNames::place_parents(const std::string& path, std::string& remark) {
  std::size_t slash = path.rfind('/');
  if (slash == std::string::npos) return path;
  std::string parent = path.substr(0, slash);
  if (parent != last_parent_) {
    last_placed_ = place_folder(parent, remark);
    last_parent_ = parent;
  }
  return last_placed_ + path.substr(slash);
}

SafePath OutputNames::safe(std::string_view stored) const {
  SafePath path = make_safe(stored, rules_);
  if (letters_ == Letters::small) path.path = to_lower(path.path);
  return path;
}

/// What a stored path means without the changes that let others become equal to it.
std::string OutputNames::meaning(std::string_view stored) {
  return make_safe(stored, NameRules::here).path;
}

void OutputNames::note_owner(const std::string& path, std::string_view stored) {
  if (changes_names()) owners_.insert_or_assign(key(path), meaning(stored));
}

bool OutputNames::is_owner(const std::string& path, std::string_view stored) const {
  if (!changes_names()) return true;
  auto owner = owners_.find(key(path));
  return owner != owners_.end() && owner->second == meaning(stored);
}

/// The numbered path that the same stored one got before.
std::string OutputNames::own_again(std::string_view stored) const {
  if (!changes_names()) return "";
  auto renamed = renamed_.find(std::string(stored));
  return renamed != renamed_.end() && is_owner(renamed->second, stored) ? renamed->second : "";
}

OutputNames::Given OutputNames::folder(std::string_view stored) {
  SafePath safe = this->safe(stored);
  Given given{"", safe.change};
  if (safe.path.empty()) return given;
  given.path = place_folder(safe.path, given.remark);
  return given;
}

OutputNames::Given OutputNames::file(std::string_view stored, Duplicates duplicates) {
  SafePath safe = this->safe(stored);
  Given given{"", safe.change};
  if (safe.path.empty()) return given;
  given.path = place_parents(safe.path, given.remark);
  if (std::string again = own_again(stored); !again.empty()) given.path = std::move(again);
  TextMarks::Mark before = taken_.mark(key(given.path), file_name);
  if (before == none) {
    note_owner(given.path, stored);
  } else {
    bool own = before == file_name && is_owner(given.path, stored);
    if (own && duplicates == Duplicates::replace) {
      given.replaces = true;
      add_remark(given.remark, "stored again; the later one replaces the earlier one");
    } else {
      add_remark(given.remark, before == folder_name ? "a folder of the same name came first"
                               : own                 ? "another entry has the same name"
                                                     : "another entry would have the same name");
      given.path = free_name(given.path);
      taken_.mark(key(given.path), file_name);
      note_owner(given.path, stored);
    }
  }
  if (given.path != stored) renamed_.insert_or_assign(std::string(stored), given.path);
  return given;
}

std::string OutputNames::given_to(std::string_view stored) const {
  auto renamed = renamed_.find(std::string(stored));
  std::string path = renamed == renamed_.end() ? std::string(stored) : renamed->second;
  return taken_.find(key(path)) == file_name ? path : "";
}

}  // namespace operculum
