#include "format/volume/lvm_text.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/depth_guard.h"
#include "base/error.h"
#include "base/text.h"

namespace operculum::lvm {

class Parser {
 public:
  explicit Parser(std::string_view text) : text_(text) {}

  Section all() {
    Section out;
    fill(out, 0);
    if (at_ < text_.size()) fail("a name");
    return out;
  }

 private:
  static constexpr int kDeepest = 8;

  [[noreturn]] void fail(std::string_view expected) const {
    auto line = 1 + std::count(text_.begin(), text_.begin() + static_cast<std::ptrdiff_t>(at_), '\n');
    std::string found = at_ < text_.size() ? fmt::format("\"{}\"", escape(text_.substr(at_, 1))) : "the end";
    throw Malformed(fmt::format("LVM2 metadata, line {}: expected {}, found {}", line, expected, found));
  }

  void skip() {
    while (at_ < text_.size()) {
      if (text_[at_] == '#') {
        at_ = std::min(text_.find('\n', at_), text_.size());
      } else if (text_[at_] == ' ' || text_[at_] == '\t' || text_[at_] == '\n' || text_[at_] == '\r') {
        ++at_;
      } else {
        return;
      }
    }
  }

  bool take(char c) {
    skip();
    if (at_ >= text_.size() || text_[at_] != c) return false;
    ++at_;
    return true;
  }

  std::string word(std::string_view what) {
    skip();
    std::size_t begin = at_;
    auto is_word = [](char c) {
      return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') || c == '_' ||
             c == '-' || c == '+' || c == '.';
    };
    while (at_ < text_.size() && is_word(text_[at_])) ++at_;
    if (at_ == begin) fail(what);
    return std::string(text_.substr(begin, at_ - begin));
  }

  std::variant<std::int64_t, std::string> value() {
    if (take('"')) {
      std::string out;
      for (; at_ < text_.size() && text_[at_] != '"'; ++at_) {
        if (text_[at_] == '\\' && at_ + 1 < text_.size()) ++at_;
        out += text_[at_];
      }
      if (at_ >= text_.size()) fail("the end of a text");
      ++at_;
      return out;
    }
    std::string digits = word("a value");
    bool negative = digits.starts_with('-');
    auto number = parse_number(std::string_view(digits).substr(negative ? 1 : 0));
    if (!number || *number > INT64_MAX) return digits;  // a fraction, say
    return negative ? -static_cast<std::int64_t>(*number) : static_cast<std::int64_t>(*number);
  }

  void fill(Section& out, int depth) {
    if (depth > kDeepest) fail("fewer sections within each other");
    for (skip(); at_ < text_.size() && text_[at_] != '}' && text_[at_] != '\0'; skip()) {
      std::string name = word("a name");
      if (take('{')) {
        fill(out.sections_[name], depth + 1);
        if (!take('}')) fail("\"}\"");
      } else if (take('=')) {
        if (!take('[')) {
          out.values_[name] = std::visit([](auto one) { return Section::Value(std::move(one)); }, value());
          continue;
        }
        std::vector<std::variant<std::int64_t, std::string>> list;
        while (!take(']')) {
          list.push_back(value());
          if (!take(',')) {
            if (!take(']')) fail("\",\" or \"]\"");
            break;
          }
        }
        out.values_[name] = std::move(list);
      } else {
        fail("\"=\" or \"{\"");
      }
    }
    if (depth == 0 && at_ < text_.size() && text_[at_] == '\0')
      at_ = text_.size();  // the text ends with a zero
  }

  std::string_view text_;
  std::size_t at_ = 0;
};

Section Section::parse(std::string_view text) {
  return Parser(text).all();
}

const Section* Section::section(const std::string& name) const {
  auto found = sections_.find(name);
  return found == sections_.end() ? nullptr : &found->second;
}

std::uint64_t Section::number(const std::string& name) const {
  auto found = values_.find(name);
  const auto* value = found == values_.end() ? nullptr : std::get_if<std::int64_t>(&found->second);
  if (!value || *value < 0)
    throw Malformed(fmt::format("LVM2 metadata: expected {} to be a number, found none", name));
  return static_cast<std::uint64_t>(*value);
}

std::uint64_t Section::number(const std::string& name, std::uint64_t otherwise) const {
  return values_.contains(name) ? number(name) : otherwise;
}

const std::string& Section::text(const std::string& name) const {
  auto found = values_.find(name);
  const auto* value = found == values_.end() ? nullptr : std::get_if<std::string>(&found->second);
  if (!value) throw Malformed(fmt::format("LVM2 metadata: expected {} to be a text, found none", name));
  return *value;
}

std::string Section::text(const std::string& name, const std::string& otherwise) const {
  return values_.contains(name) ? text(name) : otherwise;
}

std::vector<std::string> Section::list(const std::string& name) const {
  auto found = values_.find(name);
  if (found == values_.end()) return {};
  auto plain = [](const std::variant<std::int64_t, std::string>& one) {
    const auto* text = std::get_if<std::string>(&one);
    return text ? *text : std::to_string(std::get<std::int64_t>(one));
  };
  std::vector<std::string> out;
  if (const auto* list = std::get_if<2>(&found->second)) {
    for (const auto& one : *list) out.push_back(plain(one));
  } else if (const auto* text = std::get_if<std::string>(&found->second)) {
    out.push_back(*text);
  } else {
    out.push_back(std::to_string(std::get<std::int64_t>(found->second)));
  }
  return out;
}

}  // namespace operculum::lvm
