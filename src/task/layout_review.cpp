#include "task/layout_review.h"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <charconv>
#include <map>
#include <set>

#include "base/checksum.h"
#include "base/text.h"
#include "study/meanings.h"
#include "task/kinds.h"

namespace operculum {
namespace {

constexpr std::size_t kMostFields = 100'000, kRangesLooked = 12, kEntriesKnown = 8, kFewValues = 5;
constexpr std::uint64_t kMostRead = 64 << 20, kMostKnown = 4 << 20, kHead = 64 * 1024;  // bytes

/// The number that a field's value begins with.
std::optional<std::uint64_t> number_of(const layout::Tracer::Field& field) {
  std::uint64_t value = 0;
  const char* end = field.value.data() + field.value.size();
  auto [behind, error] = std::from_chars(field.value.data(), end, value);
  if (error != std::errc() || (behind != end && *behind != ' ')) return std::nullopt;
  return value;
}

/// "items[].at" of "items[3].at".
std::string without_numbers(std::string_view name) {
  std::string out;
  bool within = false;
  for (char c : name) {
    if (c == ']') within = false;
    if (!within) out += c;
    if (c == '[') within = true;
  }
  return out;
}

std::string last_of(std::string_view name) {
  std::size_t dot = name.rfind('.');
  return std::string(dot == std::string_view::npos ? name : name.substr(dot + 1));
}

/// The names of fields that roles of entries use.
std::set<std::string> used_by_roles(const layout::Plan& plan) {
  std::set<std::string> used;
  for (const RoleBack& role : roles_back(plan)) {
    for (std::string_view field : split(role.fields, ',')) used.insert(last_of(trim(field)));
  }
  return used;
}

class Reviewer {
 public:
  explicit Reviewer(LayoutReview& review) : review_(review), container_(review.trial.container.get()) {}

  void ranges(OpenContext& context) {
    for (const layout::CoverRange& range : review_.trial.ranges) {
      if (range.kind == layout::CoverRange::Kind::unexplained)
        review_.ranges.push_back({range.begin, range.end, study::Look::structured, {}, told_by(range.begin)});
    }
    std::stable_sort(review_.ranges.begin(), review_.ranges.end(),
                     [](const auto& a, const auto& b) { return a.end - a.begin > b.end - b.begin; });
    KindReader kinds(context);
    for (std::size_t i = 0; i < std::min(review_.ranges.size(), kRangesLooked); ++i) {
      LayoutReview::OpenRange& range = review_.ranges[i];
      Bytes head = read_up_to(*review_.trial.file, range.begin, std::min(range.end - range.begin, kHead));
      range.look = study::count_bytes(head).look;
      Probe probe(make_memory_source(std::move(head)), "");
      if (std::string words = kinds.describe(probe); words != "data") range.begins_like = std::move(words);
    }
  }

  void entries() {
    if (container_ == nullptr) return;
    std::map<std::string, LayoutReview::Failing> failing;
    std::uint64_t bytes = 0;
    for (std::size_t i = 0; i < container_->entries().size() && bytes < kMostRead; ++i) {
      ++review_.read;
      try {
        bytes += read_entry(i);
      } catch (const Error& error) {
        LayoutReview::Failing& one = failing[error.what()];
        if (one.entries++ == 0) one = {error.what(), container_->entries()[i].path, 1};
      }
    }
    for (auto& [why, one] : failing) review_.failing.push_back(std::move(one));
    std::stable_sort(review_.failing.begin(), review_.failing.end(),
                     [](const auto& a, const auto& b) { return a.entries > b.entries; });
  }

  void fields(const layout::Plan& plan) {
    std::set<std::string> used = used_by_roles(plan);
    std::map<std::string, std::vector<std::uint64_t>> values;
    std::vector<std::string> order;
    std::map<std::string, std::uint64_t> sizes;
    for (const layout::Tracer::Field& field : review_.trial.fields) {
      auto value = number_of(field);
      if (!value || field.name.find('[') == std::string::npos || used.contains(last_of(field.name))) continue;
      std::string name = without_numbers(field.name);
      if (!values.contains(name)) order.push_back(name);
      values[name].push_back(*value);
      sizes[name] = field.size;
    }
    for (const std::string& name : order) {
      const std::vector<std::uint64_t>& all = values[name];
      auto [least, most] = std::minmax_element(all.begin(), all.end());
      std::set<std::uint64_t> distinct(all.begin(), all.end());
      review_.fields.push_back(
          {name, sizes[name], all.size(), distinct.size(), *least, *most, idea(all, distinct)});
    }
  }

 private:
  /// A field that was read and holds that offset.
  std::string told_by(std::uint64_t at) const {
    if (at < 16) return "";
    for (const layout::Tracer::Field& field : review_.trial.fields) {
      if (field.size >= 2 && number_of(field) == at) return field.name;
    }
    return "";
  }

  std::uint64_t read_entry(std::size_t index) {
    Bytes buffer(64 * 1024);
    std::uint64_t bytes = 0;
    std::uint32_t sum = 0;
    StreamPtr stream = container_->content(index)->stream();
    while (std::size_t count = stream->read(buffer)) {
      sum = crc32(sum, ByteView(buffer).first(count));
      bytes += count;
      if (bytes > kMostRead) break;
    }
    if (index < kEntriesKnown && bytes <= kMostKnown) known_[index] = {bytes, sum};
    return bytes;
  }

  std::string idea(const std::vector<std::uint64_t>& all, const std::set<std::uint64_t>& distinct) const {
    if (distinct.size() == 1)
      return all.size() == 1
                 ? ""
                 : fmt::format("always {}: require it, or it tells what has not been seen yet", all.front());
    if (all_tell(all, [](const Known& known) { return known.crc; }))
      return "is the CRC-32 of the entries: check crc32 of data = ...";
    if (all_tell(all, [](const Known& known) { return known.size; }))
      return "is the size of the entries: size = ...";
    if (study::could_be_time(*distinct.begin()) && study::could_be_time(*distinct.rbegin()))
      return "could be seconds since 1970: time = unix(...)";
    if (distinct.size() <= kFewValues && all.size() > 2 * distinct.size())
      return fmt::format("one of {}: a kind, or flags", fmt::join(distinct, ", "));
    if (std::is_sorted(all.begin(), all.end())) return "rises from record to record";
    return "";
  }

  /// What was found out of an entry by reading it.
  struct Known {
    std::uint64_t size;
    std::uint32_t crc;
  };

  /// Whether the records tell that of the entries that were read, as far as both are known.
  template <typename Told>
  bool all_tell(const std::vector<std::uint64_t>& all, const Told& told) const {
    std::size_t asked = 0;
    for (const auto& [index, known] : known_) {
      if (index >= all.size()) continue;
      if (all[index] != told(known)) return false;
      ++asked;
    }
    return asked >= 2;
  }

  LayoutReview& review_;
  Container* container_;
  std::map<std::size_t, Known> known_;  // of the first entries
};

}  // namespace

LayoutReview review_layout(const std::shared_ptr<const layout::Plan>& plan, const std::string& target,
                           bool profile, OpenContext& context) {
  LayoutReview review;
  review.trial = try_layout(plan, target, {{kMostFields, {}, {}}, profile}, context);
  Reviewer reviewer(review);
  reviewer.ranges(context);
  reviewer.entries();
  reviewer.fields(*plan);
  return review;
}

}  // namespace operculum
