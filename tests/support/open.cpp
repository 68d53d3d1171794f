#include "support/open.h"

#include <map>
#include <stdexcept>

namespace operculum::test {
namespace {

constexpr std::uint64_t kMost = 64 << 20;

/// Every file's data by path and position, as far as it could be read without an error.
std::map<std::size_t, std::pair<std::string, std::string>> contents_of(Container& container) {
  std::map<std::size_t, std::pair<std::string, std::string>> contents;
  container.walk([&](const Visit& visit) {
    if (!visit.entry.has_data()) return true;
    try {
      Bytes data = visit.stream != nullptr ? read_all(*visit.stream, kMost)
                                           : read_all(*visit.content->stream(), kMost);
      contents[visit.index] = {visit.entry.path, std::string(as_text(data))};
    } catch (const Error&) {
      // told: that is what is asked of it
    }
    return true;
  });
  return contents;
}

}  // namespace

Held open_bytes(Bytes bytes, const std::string& name, As as,
                const std::function<void(OpenContext&)>& set_up) {
  Held held;
  held.context = std::make_unique<OpenContext>();
  set_up(*held.context);
  SourcePtr source = make_memory_source(std::move(bytes));
  ContentPtr content =
      as == As::file ? make_content(source) : make_content([source] { return make_source_stream(source); });
  held.opened = open_container({content, name, nullptr}, *held.context);
  return held;
}

Held open_source(SourcePtr source, const std::string& name) {
  Held held;
  held.context = std::make_unique<OpenContext>();
  held.opened = open_container({make_content(std::move(source)), name, nullptr}, *held.context);
  return held;
}

Held open_beside(const std::string& name, const Files& files) {
  Held held;
  held.context = std::make_unique<OpenContext>();
  auto source_of = [files](const std::string& wanted) -> SourcePtr {
    auto found = files.find(wanted);
    return found == files.end() ? nullptr : make_memory_source(found->second);
  };
  held.opened = open_container({make_content(source_of(name)), name, source_of}, *held.context);
  return held;
}

std::string text_of(Container& container, std::size_t index) {
  return std::string(as_text(read_all(*container.content(index)->stream(), kMost)));
}

std::string paths_of(Container& container) {
  std::string out;
  for (const Entry& entry : container.entries()) out += (out.empty() ? "" : " ") + entry.path;
  return out;
}

const Entry& entry_at(Container& container, const std::string& path) {
  for (const Entry& entry : container.entries()) {
    if (entry.path == path) return entry;
  }
  throw std::runtime_error("no entry " + path);
}

std::string text_at(Container& container, const std::string& path) {
  const Entry& entry = entry_at(container, path);
  return text_of(container, static_cast<std::size_t>(&entry - container.entries().data()));
}

bool has_finding(const Container& container, std::string_view part) {
  for (const Finding& finding : container.findings()) {
    if (finding.text.find(part) != std::string::npos) return true;
  }
  return false;
}

std::size_t read_every_prefix(const Bytes& bytes, const std::string& name) {
  Held whole = open_bytes(bytes, name);
  auto expected = contents_of(*whole);
  std::size_t listed = 0;
  for (std::size_t size = 0; size < bytes.size(); ++size) {
    for (As as : {As::file, As::stream}) {
      try {
        Held cut =
            open_bytes(Bytes(bytes.begin(), bytes.begin() + static_cast<std::ptrdiff_t>(size)), name, as);
        if (cut.format() == "none") continue;
        auto contents = contents_of(*cut);
        ++listed;
        for (const auto& [index, item] : contents) {
          auto same = expected.find(index);
          bool known = same != expected.end() && same->second.first == item.first;
          if (known && same->second.second != item.second) {
            throw std::runtime_error("cut at " + std::to_string(size) + ": " + item.first +
                                     " was read without an error, but differs");
          }
        }
      } catch (const Error&) {
        // a clear error is a right answer
      }
    }
  }
  return listed;
}

}  // namespace operculum::test
