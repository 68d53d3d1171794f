#include "task/name_template.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "base/path_parts.h"
#include "base/text.h"

namespace operculum {
namespace {

struct Split {
  std::string folder, name, ending;
};
Split split_path(const std::string& path) {
  Split out;
  out.folder = parent_of(path);
  out.name = name_part(path);
  std::size_t dot = out.name.rfind('.');
  if (dot != std::string::npos && dot > 0) {
    out.ending = out.name.substr(dot);
    out.name.resize(dot);
  }
  return out;
}

std::string without_slashes(std::string value) {
  std::replace(value.begin(), value.end(), '/', '_');
  return value;
}

}  // namespace

NameTemplate::NameTemplate(const std::string& text) {
  std::size_t at = 0;
  while (at < text.size()) {
    std::size_t open = text.find('{', at);
    if (open != at) parts_.push_back({false, text.substr(at, open - at)});
    if (open == std::string::npos) return;
    std::size_t close = text.find('}', open);
    if (close == std::string::npos)
      throw Malformed(fmt::format("--name-as \"{}\": the brace at {} is not closed", escape(text), open + 1));
    parts_.push_back({true, text.substr(open + 1, close - open - 1)});
    at = close + 1;
  }
}

std::string NameTemplate::name_for(const Entry& entry, const std::string& path, std::uint64_t number,
                                   Container& container, const std::string& container_name) const {
  Split split = split_path(path);
  std::string out;
  for (const Part& part : parts_) {
    if (!part.placeholder) {
      out += part.text;
    } else if (part.text == "path") {
      out += path;
    } else if (part.text == "folder") {
      out += split.folder;
    } else if (part.text == "name") {
      out += split.name;
    } else if (part.text == "ending") {
      out += split.ending;
    } else if (part.text == "number") {
      out += std::to_string(number);
    } else if (part.text == "container") {
      out += split_path(container_name).name;
    } else if (part.text == "type") {
      out += entry.extra ? without_slashes(entry.extra->type_tag) : "";
    } else if (part.text == "crc32") {
      out += entry.is(Entry::has_crc) ? fmt::format("{:08x}", entry.crc32) : "";
    } else {
      auto facts = container.facts();
      auto fact =
          std::find_if(facts.begin(), facts.end(), [&](const auto& one) { return one.first == part.text; });
      if (fact == facts.end()) {
        std::string known = "path, folder, name, ending, number, container, type, crc32";
        for (const auto& [name, value] : facts) known += ", " + name;
        throw Malformed(fmt::format("--name-as: nothing is known of \"{}\"; there are {}", escape(part.text),
                                    escape(known)));
      }
      out += without_slashes(fact->second);
    }
  }
  return out;
}

}  // namespace operculum
