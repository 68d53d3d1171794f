#include "support/rewritten.h"

#include "base/error.h"
#include "support/byte_writer.h"

namespace operculum::test {
namespace {

NewEntry file_of(const std::string& path, std::string_view text) {
  NewEntry entry;
  entry.path = path;
  entry.size = text.size();
  entry.modified = from_unix(1772373908);
  entry.content = make_content(make_memory_source(to_bytes(text)));
  return entry;
}

}  // namespace

std::size_t Rewritten::index_of(const std::string& path) {
  std::span<const Entry> entries = held_->written_as()->entries();
  for (std::size_t i = 0; i < entries.size(); ++i) {
    if (entries[i].path == path) return i;
  }
  throw Malformed("the test names an entry that is not there: " + path);
}

Rewritten& Rewritten::set(const std::string& path, std::string_view text) {
  changes_.replaced[index_of(path)] = file_of(path, text);
  return *this;
}
Rewritten& Rewritten::add(const std::string& path, std::string_view text) {
  changes_.added.push_back(file_of(path, text));
  return *this;
}
Rewritten& Rewritten::add_folder(const std::string& path) {
  NewEntry entry;
  entry.path = path;
  entry.kind = EntryKind::folder;
  entry.mode = 0755;
  changes_.added.push_back(std::move(entry));
  return *this;
}
Rewritten& Rewritten::link(const std::string& path, const std::string& target) {
  NewEntry entry;
  entry.path = path;
  entry.kind = EntryKind::symbolic_link;
  entry.link_target = target;
  changes_.replaced[index_of(path)] = std::move(entry);
  return *this;
}
Rewritten& Rewritten::remove(const std::string& path) {
  changes_.removed.insert(index_of(path));
  return *this;
}
Rewritten& Rewritten::rename(const std::string& path, const std::string& to) {
  changes_.renamed[index_of(path)] = to;
  return *this;
}
Rewritten& Rewritten::method(const std::string& codec) {
  choice_.method = codec;
  return *this;
}
Rewritten& Rewritten::password(const std::string& secret) {
  held_.context->keys.add({secret, "the test"}, "*");
  return *this;
}

Bytes Rewritten::bytes() {
  Writing writing{choice_, held_.context->spool, [this](const std::string& path, const std::string& text) {
                    notes_.push_back(path + ": " + text);
                  }};
  SourcePtr source = held_->written_as()->rewrite(changes_, writing).source();
  return read_up_to(*source, 0, source->size());
}

}  // namespace operculum::test
