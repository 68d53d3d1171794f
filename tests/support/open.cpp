#include "support/open.h"

#include <fmt/format.h>

#include <map>
#include <random>
#include <stdexcept>

#include "format/package/formats.h"

namespace operculum::test {
namespace {

constexpr std::uint64_t kMost = 64 << 20;

struct FileText {
  std::string path, text;
  bool sum = false;  ///< a checksum of it was compared
};

/// Every file's data by position, as far as it could be read without an error.
std::map<std::size_t, FileText> contents_of(Container& container) {
  std::map<std::size_t, FileText> contents;
  container.walk([&](const Visit& visit) {
    const Entry& entry = visit.entry;
    if (!entry.has_data()) return true;
    try {
      Bytes data = visit.stream != nullptr ? read_all(*visit.stream, kMost)
                                           : read_all(*visit.content->stream(), kMost);
      contents[visit.index] = {entry.path, std::string(as_text(data)),
                               entry.is(Entry::has_crc) || entry.is(Entry::has_sum) || visit.checked};
    } catch (const Error&) {
      // told: that is what is asked of it
    }
    return true;
  });
  return contents;
}

/// Whether the file is in `whole` at the same place under the same path, but with other text.
bool differs(std::size_t index, const FileText& file, const std::map<std::size_t, FileText>& whole) {
  auto same = whole.find(index);
  return same != whole.end() && same->second.path == file.path && same->second.text != file.text;
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
  held.opened = open_container({content, name}, *held.context);
  return held;
}

Held open_by_search(Bytes bytes, const std::string& name) {
  return open_bytes(std::move(bytes), name, As::file,
                    [](OpenContext& context) { context.searched.push_back(searched_file_format()); });
}

Held open_source(SourcePtr source, const std::string& name) {
  Held held;
  held.context = std::make_unique<OpenContext>();
  held.opened = open_container({make_content(std::move(source)), name}, *held.context);
  return held;
}

Held open_beside(const std::string& name, const Files& files) {
  Held held;
  held.context = std::make_unique<OpenContext>();
  auto source_of = [files](const std::string& wanted) -> SourcePtr {
    auto found = files.find(wanted);
    return found == files.end() ? nullptr : make_memory_source(found->second);
  };
  Beside beside{source_of, [files] {
                  std::vector<Candidate> all;
                  for (const auto& [own, bytes] : files)
                    all.push_back({own, [bytes = bytes] { return make_memory_source(bytes); }});
                  return all;
                }};
  held.opened = open_container({make_content(source_of(name)), name, beside}, *held.context);
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
    constexpr std::size_t kInTurn = 5;  // odd, so that either way meets every alignment
    As as = size / kInTurn % 2 == 0 ? As::file : As::stream;
    try {
      Held cut =
          open_bytes(Bytes(bytes.begin(), bytes.begin() + static_cast<std::ptrdiff_t>(size)), name, as);
      if (cut.format() == "none") continue;
      auto contents = contents_of(*cut);
      ++listed;
      for (const auto& [index, file] : contents) {
        if (differs(index, file, expected))
          throw std::runtime_error(
              fmt::format("cut at {}: {} was read without an error, but differs", size, file.path));
      }
    } catch (const Error&) {
      // a clear error is a right answer
    }
  }
  return listed;
}

std::size_t read_with_flips(const Bytes& bytes, std::size_t rounds, bool summed) {
  auto expected = contents_of(*open_bytes(bytes));
  std::size_t listed = 0;
  std::minstd_rand random(7);
  for (std::size_t round = 0; round < rounds; ++round) {
    std::size_t at = round < bytes.size() && bytes.size() <= rounds ? round : random() % bytes.size();
    unsigned bit = static_cast<unsigned>(random() >> 8) % 8;
    Bytes bad = bytes;
    bad[at] = static_cast<Byte>(bad[at] ^ 1u << bit);
    try {
      Held held = open_bytes(std::move(bad));
      if (held.format() == "none") continue;
      auto contents = contents_of(*held);
      held->installation();
      ++listed;
      for (const auto& [index, file] : contents) {
        if (summed && file.sum && differs(index, file, expected))
          throw std::runtime_error(
              fmt::format("bit {} of byte {}: {} has a checksum, but was read changed", bit, at, file.path));
      }
    } catch (const Error&) {
      // a clear error is a right answer
    }
  }
  return listed;
}

}  // namespace operculum::test
