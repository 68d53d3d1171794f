#include "collection/content_search.h"

#include <fmt/format.h>

#include <algorithm>
#include <cstring>

#include "base/error.h"
#include "base/readable_text.h"
#include "base/text.h"

namespace operculum {
namespace {

constexpr std::size_t kMostExcerpt = 160;  // bytes of a line that are shown

Byte small(Byte b) {
  return b >= 'A' && b <= 'Z' ? static_cast<Byte>(b + ('a' - 'A')) : b;
}

/// Where `needle` begins at or behind `from`; nothing when it does not.
std::optional<std::size_t> find_bytes(ByteView window, ByteView needle, std::size_t from) {
  if (from > window.size()) return std::nullopt;
  const void* found = memmem(window.data() + from, window.size() - from, needle.data(), needle.size());
  if (found == nullptr) return std::nullopt;
  return static_cast<std::size_t>(static_cast<const Byte*>(found) - window.data());
}

/// Tabs and line ends as blanks, none at either end.
std::string on_one_line(std::string text) {
  std::replace_if(
      text.begin(), text.end(), [](char c) { return c == '\t' || c == '\n'; }, ' ');
  return std::string(trim(text));
}

bool is_wide(const std::string& encoding) {
  return encoding.starts_with("UTF-16");
}

}  // namespace

void Needles::add_text(const std::string& text, Glob::Case letters,
                       const std::vector<std::string>& encodings) {
  std::vector<std::string> all = {"UTF-8", "UTF-16LE", "UTF-16BE"};
  all.insert(all.end(), encodings.begin(), encodings.end());
  for (const std::string& encoding : all) {
    require_encoding(encoding);
    auto encoded = from_utf8(text, encoding);
    if (!encoded || encoded->empty()) continue;
    Needle needle{Bytes(encoded->begin(), encoded->end()), letters, encoding};
    if (letters == Glob::Case::ignored)
      std::transform(needle.bytes.begin(), needle.bytes.end(), needle.bytes.begin(), small);
    bool known = std::any_of(all_.begin(), all_.end(), [&](const Needle& other) {
      return other.bytes == needle.bytes && other.letters == letters && !other.encoding.empty();
    });
    if (!known) all_.push_back(std::move(needle));
  }
}

void Needles::add_bytes(Bytes bytes) {
  all_.push_back({std::move(bytes), Glob::Case::exact, ""});
}

void ContentSearch::add(ByteView bytes) {
  window_.insert(window_.end(), bytes.begin(), bytes.end());
  if (window_.size() >= 4 * kAround) search(false);
}

void ContentSearch::finish() {
  search(true);
}

/// Looks through the window; but at the end of the file, what begins in its last bytes waits for what
/// follows.
void ContentSearch::search(bool last) {
  std::size_t longest = 0;
  bool fold = false;
  for (const Needles::Needle& needle : needles_.all_) {
    longest = std::max(longest, needle.bytes.size());
    fold |= needle.letters == Glob::Case::ignored;
  }
  std::size_t behind = longest + kAround;
  std::size_t limit = last ? window_.size() : window_.size() - std::min(window_.size(), behind);
  if (limit > searched_) {
    if (fold) {
      folded_.resize(window_.size());
      std::transform(window_.begin(), window_.end(), folded_.begin(), small);
    }
    next_.resize(needles_.all_.size());
    for (std::size_t i = 0; i < needles_.all_.size(); ++i)
      look_for(i, needles_.all_[i].letters == Glob::Case::ignored ? folded_ : window_, limit);
    searched_ = limit;
  }
  std::size_t gone = searched_ - std::min(searched_, kAround);
  lines_ += static_cast<std::uint64_t>(
      std::count(window_.begin(), window_.begin() + static_cast<std::ptrdiff_t>(gone), '\n'));
  window_.erase(window_.begin(), window_.begin() + static_cast<std::ptrdiff_t>(gone));
  window_at_ += gone;
  searched_ -= gone;
}

/// Hits of one needle do not overlap, wherever the pieces end that the bytes come in.
void ContentSearch::look_for(std::size_t index, ByteView window, std::size_t limit) {
  const Needles::Needle& needle = needles_.all_[index];
  std::uint64_t behind_last = next_[index] - std::min(next_[index], window_at_);
  std::size_t found = 0;
  for (std::size_t from = std::max<std::size_t>(searched_, behind_last); found < most_;) {
    auto at = find_bytes(window, needle.bytes, from);
    if (!at || *at >= limit) return;
    hits_.push_back(describe(needle, *at, window_));
    from = *at + needle.bytes.size();
    next_[index] = window_at_ + from;
    ++found;
  }
}

/// A hit with what lies around it on its line.
ContentHit ContentSearch::describe(const Needles::Needle& needle, std::size_t at, ByteView window) const {
  ContentHit hit{window_at_ + at, 0, "", needle.encoding};
  if (needle.encoding.empty()) {
    hit.excerpt = to_hex(window.subspan(at, std::min<std::size_t>(needle.bytes.size(), kMostExcerpt / 2)));
    return hit;
  }
  bool wide = is_wide(needle.encoding);
  std::size_t step = wide ? 2 : 1, zero = needle.encoding == "UTF-16BE" ? 1 : 0;
  auto ends_line = [&](std::size_t place) {
    Byte b = wide ? window[place + zero] : window[place];
    bool high = wide && window[place + 1 - zero] != 0;
    return !high && (b == '\n' || b == '\r' || b == 0);
  };
  std::size_t begin = at, end = at + needle.bytes.size(), most = at - std::min(at, kMostExcerpt / 2);
  while (begin >= most + step && !ends_line(begin - step)) begin -= step;
  while (end + step <= window.size() && end - begin < kMostExcerpt && !ends_line(end)) end += step;
  if (!wide) {
    while (begin < at && (window[begin] & 0xc0) == 0x80) ++begin;  // not into a character of UTF-8
  }
  std::string_view raw = as_text(window.subspan(begin, end - begin));
  hit.excerpt =
      on_one_line(readable_text(as_bytes(to_utf8(raw, needle.encoding).value_or(std::string(raw)))));
  if (!wide) {
    hit.line = lines_ + 1 +
               static_cast<std::uint64_t>(
                   std::count(window.begin(), window.begin() + static_cast<std::ptrdiff_t>(at), '\n'));
  }
  return hit;
}

std::vector<ContentHit> ContentSearch::hits() {
  std::stable_sort(hits_.begin(), hits_.end(),
                   [](const ContentHit& a, const ContentHit& b) { return a.at < b.at; });
  hits_.resize(std::min(hits_.size(), most_));
  return std::move(hits_);
}

}  // namespace operculum
