#include "container/sequence_rewrite.h"

#include <algorithm>

#include "base/error.h"
#include "io/filling.h"
#include "io/spool.h"

namespace operculum {
namespace {

constexpr std::uint64_t kMostHeaders = 64 << 20;  // bytes of one entry's headers
constexpr std::uint64_t kTrailerSearch = 4096;    // bytes in which the entry that ends an archive lies

}  // namespace

std::uint64_t trailer_size(const SequenceEditor& editor, const Source& source, std::uint64_t at) {
  return editor.trailer_size(read_up_to(source, at, kTrailerSearch));
}

void SequenceRewrite::add(const Span& span, Entry entry) {
  spans_.push_back(span);
  if (changes_.replaced.contains(span.index) || changes_.renamed.contains(span.index))
    touched_[span.index] = std::move(entry);
}

Assembly SequenceRewrite::finish() {
  if (changes_.empty()) {
    out_.add(source_);
    return std::move(out_);
  }
  std::stable_sort(spans_.begin(), spans_.end(),
                   [](const Span& a, const Span& b) { return a.begin < b.begin; });
  std::uint64_t at = 0;
  for (const Span& span : spans_) {
    keep(at, span.begin);  // what belongs to no entry
    write(span);
    at = std::max(at, span.end);
  }
  for (const NewEntry& entry : changes_.added) add_new(entry);
  write_tail(at);
  return std::move(out_);
}

void SequenceRewrite::write(const Span& span) {
  if (changes_.removed.contains(span.index)) return;
  auto touched = touched_.find(span.index);
  if (touched == touched_.end()) return keep(span.begin, span.end);
  if (span.data_at - span.begin > kMostHeaders)
    throw LimitExceeded("an entry's headers are larger than 64 MiB");
  Bytes headers = read_exactly(*source_, span.begin, span.data_at - span.begin, "headers of an entry");
  auto replaced = changes_.replaced.find(span.index);
  auto renamed = changes_.renamed.find(span.index);
  ItemChange change;
  ContentPtr content;
  if (replaced != changes_.replaced.end()) {
    change.content = &replaced->second;
    content = editor_.data_of(replaced->second);
    change.size = replaced->second.kind == EntryKind::symbolic_link ? replaced->second.link_target.size()
                                                                    : replaced->second.size;
  }
  if (renamed != changes_.renamed.end()) change.path = &renamed->second;
  std::uint64_t begin = out_.size();
  out_.add(editor_.changed_headers({touched->second, headers}, change));
  if (change.content == nullptr) return keep(span.data_at, span.end);
  if (content) add_data(*content);
  fill_up(begin);
}

void SequenceRewrite::add_new(const NewEntry& entry) {
  Bytes like;
  if (!spans_.empty()) {
    const Span& first = spans_.front();
    like = read_up_to(*source_, first.begin, std::min(first.data_at - first.begin, kMostHeaders));
  }
  ContentPtr content = entry.kind == EntryKind::folder ? nullptr : editor_.data_of(entry);
  std::uint64_t size = entry.kind == EntryKind::file ? entry.size : 0;
  if (entry.kind == EntryKind::symbolic_link && content) size = entry.link_target.size();
  std::uint64_t begin = out_.size();
  out_.add(editor_.new_headers(entry, size, like));
  if (content) add_data(*content);
  fill_up(begin);
}

void SequenceRewrite::fill_up(std::uint64_t begin) {
  out_.add(Bytes(static_cast<std::size_t>(editor_.padding(out_.size() - begin)), editor_.filler()));
}

void SequenceRewrite::add_data(const Content& content) {
  out_.add(random_access(content, writing_.spool));
}

/// What follows the last entry: as it was, unless it only fills up to a size that is another one now.
void SequenceRewrite::write_tail(std::uint64_t from) {
  std::uint64_t trailer = trailer_size(editor_, *source_, from);
  keep(from, from + trailer);
  if (is_filling(*source_, from + trailer, source_->size())) {
    if (auto filling = editor_.filling(out_.size(), source_->size())) return out_.add_zeros(*filling);
  }
  keep(from + trailer, source_->size());
}

}  // namespace operculum
