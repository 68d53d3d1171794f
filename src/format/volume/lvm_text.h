#pragma once

#include <cstdint>
#include <map>
#include <string>
#include <string_view>
#include <variant>
#include <vector>

namespace operculum::lvm {

/// A section of LVM2's metadata text: values and further sections by name. Parsed from what lvm.conf(5) calls
/// the configuration format.
class Section {
 public:
  using Value = std::variant<std::int64_t, std::string, std::vector<std::variant<std::int64_t, std::string>>>;

  /// Throws Malformed with the line at fault.
  static Section parse(std::string_view text);

  const Section* section(const std::string& name) const;
  const std::map<std::string, Section>& sections() const { return sections_; }
  /// Throws Malformed unless the value is there, is a number, and is not negative.
  std::uint64_t number(const std::string& name) const;
  std::uint64_t number(const std::string& name, std::uint64_t otherwise) const;
  /// Throws Malformed unless the value is there and a text.
  const std::string& text(const std::string& name) const;
  std::string text(const std::string& name, const std::string& otherwise) const;
  /// A list's elements, numbers as digits; empty when the value is not there. A single value is a list of
  /// one.
  std::vector<std::string> list(const std::string& name) const;

 private:
  friend class Parser;
  std::map<std::string, Value> values_;
  std::map<std::string, Section> sections_;
};

}  // namespace operculum::lvm
