#include "layout/fresh/corrections.h"

#include <algorithm>
#include <set>

#include "base/sum_kinds.h"
#include "base/text.h"
#include "layout/plan/read_plan.h"
#include "layout/rewrite/number_finder.h"
#include "layout/rewrite/number_writer.h"

namespace operculum::layout {
namespace {

constexpr std::size_t kNear = 12;  // comparisons and numbers that are looked at, the last ones

/// Numbers that tell the size of parts in which an offset lies, or which end there, so much greater.
void grow_around(const Reading& reading, std::uint64_t at, std::uint64_t more, Bytes& bytes) {
  for (const RangeRead& part : reading.reads.withins) {
    if (at < part.at || at > part.at + part.length) continue;
    const NumberRead* size =
        last_equal(reading.reads.numbers, static_cast<std::int64_t>(part.length), part.numbers);
    if (size == nullptr) continue;
    if (auto made = with_value(bytes, *size, size->value + static_cast<std::int64_t>(more))) bytes = *made;
  }
}

Bytes with_bytes(const Bytes& bytes, std::uint64_t at, std::string_view with) {
  constexpr std::uint64_t kFarthest = 1 << 20;
  Bytes out = bytes;
  if (at > kFarthest) return out;
  auto end = static_cast<std::size_t>(at) + with.size();
  if (out.size() < end) out.resize(end);
  std::copy(with.begin(), with.end(), out.begin() + static_cast<std::ptrdiff_t>(at));
  return out;
}

bool stands_there(const Bytes& bytes, const Compared::Constant& wanted) {
  return wanted.at <= bytes.size() &&
         as_text(ByteView(bytes).subspan(static_cast<std::size_t>(wanted.at))).starts_with(wanted.bytes);
}

template <typename T>
std::vector<T> last_of(const std::vector<T>& all) {
  return {all.rbegin(), all.rbegin() + static_cast<std::ptrdiff_t>(std::min(all.size(), kNear))};
}

void add_texts(const Reading& reading, std::vector<Bytes>& out) {
  for (const auto& [left, right] : last_of(reading.compared.texts)) {
    for (const auto& [now, wanted] : {std::pair(left, right), std::pair(right, left)}) {
      if (now == wanted) continue;
      for (const TextRead& read : last_of(reading.reads.texts)) {
        auto there = as_text(ByteView(reading.bytes).subspan(static_cast<std::size_t>(read.at)));
        bool same = there.substr(0, static_cast<std::size_t>(read.length)).starts_with(now);
        if (same && wanted.size() <= read.length) out.push_back(with_bytes(reading.bytes, read.at, wanted));
      }
      for (const RangeRead& read : last_of(reading.reads.runs))
        if (wanted.size() == read.length) out.push_back(with_bytes(reading.bytes, read.at, wanted));
    }
  }
}

void add_numbers(const Reading& reading, std::vector<Bytes>& out) {
  auto put = [&](const NumberRead& read, std::int64_t value) {
    if (auto made = with_value(reading.bytes, read, value)) out.push_back(*std::move(made));
  };
  std::vector<NumberRead> numbers = reading.numbers();
  for (const auto& [left, right] : last_of(reading.compared.numbers)) {
    for (std::size_t i = numbers.size(); i-- > 0;) {
      const NumberRead& read = numbers[i];
      if (read.value == left) {
        put(read, right);
        if (left == right) put(read, left + 1);  // it was to be another one
      } else if (read.value == right) {
        put(read, left);
      }
    }
  }
}

/// Bytes of an element of each of the last lists.
std::set<std::uint64_t> strides(const Reading& reading) {
  constexpr std::size_t kMost = 3;
  std::set<std::uint64_t> out;
  for (const ListSeen& list : last_of(reading.reads.lists))
    if (!list.begins.empty() && out.size() < kMost)
      out.insert((list.end - list.begins.front()) / list.begins.size());
  return out;
}

/// A place that is told too early becomes the end, with room for what is read there.
void add_places(const Reading& reading, std::vector<Bytes>& out) {
  std::set<std::uint64_t> rooms = strides(reading);
  rooms.insert(0);
  for (const NumberRead& read : last_of(reading.numbers())) {
    for (std::int64_t place : places_behind(reading)) {
      auto made = with_value(reading.bytes, read, place);
      if (!made) continue;
      for (std::uint64_t room : rooms) {
        Bytes bytes = *made;
        if (room > 0) bytes.resize(std::max(bytes.size(), static_cast<std::size_t>(place)) + room);
        out.push_back(std::move(bytes));
      }
    }
  }
}

}  // namespace

std::optional<Bytes> with_value(const Bytes& bytes, const NumberRead& read, std::int64_t value) {
  SourcePtr source = make_memory_source(bytes);
  auto made = bytes_for(read, value, *source);
  if (!made) {
    auto width = wider_for(read, value, *source);
    if (width) made = bytes_in(*width, read, value, *source);
  }
  if (!made || read.at + read.width > bytes.size()) return std::nullopt;
  Bytes out(bytes.begin(), bytes.begin() + static_cast<std::ptrdiff_t>(read.at));
  out.insert(out.end(), made->begin(), made->end());
  out.insert(out.end(), bytes.begin() + static_cast<std::ptrdiff_t>(read.at + read.width), bytes.end());
  return out;
}

Bytes grown(const Reading& reading, std::uint64_t more) {
  Bytes out = reading.bytes;
  grow_around(reading, out.size(), more, out);
  out.resize(out.size() + static_cast<std::size_t>(more));
  return out;
}

std::vector<Bytes> corrections(const Reading& reading) {
  std::vector<Bytes> out;
  for (const Compared::Constant& one : last_of(reading.compared.constants))
    if (!stands_there(reading.bytes, one)) out.push_back(with_bytes(reading.bytes, one.at, one.bytes));
  constexpr std::uint64_t kEachUpTo = 64, kMost = 4096;  // bytes
  for (std::uint64_t more = 1; reading.cut_short && more <= kMost; more += more < kEachUpTo ? 1 : more)
    out.push_back(grown(reading, more));
  add_texts(reading, out);
  add_numbers(reading, out);
  add_places(reading, out);
  for (const ListSeen& list : last_of(reading.reads.lists)) {  // an element that is not there
    auto count = static_cast<std::int64_t>(list.begins.size());
    const NumberRead* number =
        list.counted ? last_equal(reading.reads.numbers, count, list.numbers) : nullptr;
    auto made = number == nullptr ? std::nullopt : with_value(reading.bytes, *number, count + 1);
    if (made) out.push_back(*std::move(made));
  }
  return out;
}

std::vector<Bytes> with_sum(const Reading& reading, const DifferingCheck& check) {
  std::vector<Bytes> out;
  const Bytes &stated = check.expected.value, &right = check.computed;
  for (const Recorder* reads : {&reading.look.reads, &reading.reads})
    for (const RangeRead& read : reads->runs)
      if (read.length == right.size()) out.push_back(with_bytes(reading.bytes, read.at, as_text(right)));
  if (right.size() > sizeof(std::uint64_t)) return out;
  auto number_of = [](const Bytes& bytes) {
    std::uint64_t number = 0;
    for (Byte b : bytes) number = number << 8 | b;
    return static_cast<std::int64_t>(number);
  };
  for (const NumberRead& read : reading.numbers()) {
    if (read.value != number_of(stated)) continue;
    if (auto made = with_value(reading.bytes, read, number_of(right))) out.push_back(*std::move(made));
  }
  return out;
}

Bytes with_data(const Reading& reading, ByteView stored) {
  Bytes out = reading.bytes;
  auto at = std::min<std::uint64_t>(reading.data->at, out.size());
  grow_around(reading, at, stored.size(), out);
  out.insert(out.begin() + static_cast<std::ptrdiff_t>(at), stored.begin(), stored.end());
  return out;
}

std::vector<Bytes> with_names(const Reading& reading, const std::string& name) {
  std::vector<Bytes> out;
  for (const TextRead& read : reading.reads.texts) {
    auto there = ByteView(reading.bytes).subspan(static_cast<std::size_t>(read.at));
    there = there.first(std::min<std::size_t>(there.size(), static_cast<std::size_t>(read.length)));
    bool blank = std::all_of(there.begin(), there.end(), [](Byte b) { return b == 0 || b == ' '; });
    if (!blank) continue;
    std::string text = name;
    if (auto encoded = from_utf8(name, read.plan->encoding); encoded && !read.plan->encoding.empty())
      text = *encoded;
    if (read.plan->padding && text.size() <= read.length) {
      std::string filled = text;
      while (filled.size() < read.length) filled += *read.plan->padding;
      out.push_back(
          with_bytes(reading.bytes, read.at, filled.substr(0, static_cast<std::size_t>(read.length))));
    }
    if (read.length > 0 || read.plan->fixed) continue;
    auto more = static_cast<std::int64_t>(text.size());
    auto put_in = [&](Bytes bytes) {
      out.push_back(with_bytes(bytes, read.at, text));  // over zeros that nobody wanted yet
      grow_around(reading, read.at, text.size(), bytes);
      bytes.insert(bytes.begin() + static_cast<std::ptrdiff_t>(read.at), text.begin(), text.end());
      out.push_back(std::move(bytes));
    };
    if (read.plan->ends == TextPlan::Ends::mark || read.plan->ends == TextPlan::Ends::to_end)
      put_in(reading.bytes);
    for (const NumberRead& number : reading.numbers()) {
      bool length = number.value == 0 && number.at < read.at;
      if (auto made = length ? with_value(reading.bytes, number, more) : std::nullopt) put_in(*made);
    }
  }
  return out;
}

std::vector<Bytes> with_hashes(const Reading& reading, const std::string& name) {
  std::vector<Bytes> out;
  for (const NameHash& hash : name_hashes())
    for (const NumberRead& read : reading.numbers())
      if (auto made = with_value(reading.bytes, read, static_cast<std::int64_t>(hash.of(name))))
        out.push_back(*std::move(made));
  return out;
}

std::vector<std::int64_t> places_behind(const Reading& reading) {
  std::vector<std::int64_t> out;
  auto end = static_cast<std::int64_t>(reading.bytes.size());
  for (std::int64_t unit : {1, 4, 16, 512, 2048}) {
    std::int64_t place = (end + unit - 1) / unit * unit;
    if (out.empty() || out.back() != place) out.push_back(place);
  }
  return out;
}

}  // namespace operculum::layout
