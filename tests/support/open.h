#pragma once

#include <map>
#include <memory>

#include "base/error.h"
#include "container/open.h"

namespace operculum::test {

/// A container opened from bytes in memory, with the context that it needs kept beside it.
struct Held {
  std::unique_ptr<OpenContext> context;
  Opened opened;

  Container& operator*() const { return *operator->(); }
  Container* operator->() const {
    if (!opened.container) throw Malformed("the bytes were not recognised");
    return opened.container.get();
  }
  std::string_view format() const { return opened.format == nullptr ? "none" : opened.format->id; }
};

enum class As {
  file,    ///< bytes with random access
  stream,  ///< bytes that come forwards only, as from within another container
};

/// Recognises and opens; throws what opening throws.
Held open_bytes(
    Bytes bytes, const std::string& name = "sample", As as = As::file,
    const std::function<void(OpenContext&)>& set_up = [](OpenContext&) {});

/// The same as a person asks for by searching: containers are found wherever they begin.
Held open_by_search(Bytes bytes, const std::string& name = "dump");

/// The same for a source.
Held open_source(SourcePtr source, const std::string& name = "sample");

/// The one of these files that is named, with the others beside it.
using Files = std::map<std::string, Bytes>;
Held open_beside(const std::string& name, const Files& files);

std::string text_of(Container& container, std::size_t index);  ///< all data of an entry
std::string paths_of(Container& container);                    ///< "a.txt b.txt" in stored order
const Entry& entry_at(Container& container, const std::string& path);
std::string text_at(Container& container, const std::string& path);
bool has_finding(const Container& container, std::string_view part);

/// Opens every prefix of `bytes`, as a file or a stream by turns, lists it and reads all data: each must end
/// in an Error or a (partial) result, and never hand out text that differs from the whole container's at the
/// same path while claiming that it is complete. Returns how many prefixes could still be listed.
std::size_t read_every_prefix(const Bytes& bytes, const std::string& name);

/// Opens `bytes` with one bit flipped, `rounds` times at places spread over them, lists it and reads all data
/// and what it would install: each must end in an Error or a result and, where `summed` says that checksums
/// cover where files lie too, never hand out changed text of a file that claims one. Returns how many could
/// still be listed.
std::size_t read_with_flips(const Bytes& bytes, std::size_t rounds, bool summed);

}  // namespace operculum::test
