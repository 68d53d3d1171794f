#include "layout/coverage.h"

#include <algorithm>
#include <queue>
#include <utility>

#include "base/hex_text.h"
#include "base/text.h"
#include "io/filling.h"

namespace operculum::layout {
namespace {

constexpr std::uint64_t kRawShown = 8;
constexpr std::size_t kMostSeen = 100'000;  // fields of which it is known that they were told

/// Fewer bytes than an alignment, up to a multiple of it: padding, whatever stands in it.
bool is_alignment(std::uint64_t begin, std::uint64_t end, std::uint64_t size) {
  for (std::uint64_t step : {4u, 8u, 16u}) {
    if (end - begin < step && end % step == 0 && begin > 0 && end < size) return true;
  }
  return false;
}

}  // namespace

std::string_view name_of(CoverRange::Kind kind) {
  constexpr std::string_view kNames[] = {"header", "index", "entry data", "padding", "unexplained"};
  return kNames[static_cast<std::size_t>(kind)];
}

void Tracer::enter(const std::string& name) {
  path_.push_back(name);
}

void Tracer::leave() {
  path_.pop_back();
}

std::string Tracer::full_name(const std::string& name) const {
  std::string full;
  for (const std::string& part : path_) {
    bool kind = part.empty() || (part[0] >= 'A' && part[0] <= 'Z') || part[0] == '(';
    if (kind && !full.empty()) continue;  // the name of what was read says more than its kind
    if (!full.empty() && !part.starts_with('[')) full += '.';
    full += part;
  }
  if (!name.empty()) full += full.empty() ? name : "." + name;
  return full;
}

void Tracer::field(const std::string& name, const Region& region, std::uint64_t offset, std::uint64_t size,
                   const std::string& value) {
  std::string full = full_name(name);
  if (seen_.size() < kMostSeen && !seen_.insert({region.name(), offset, name}).second) return;  // read again
  if (!wanted(full, region, offset, size)) return;
  if (fields_.size() >= wish_.most) {  // its bytes are not shown, so they are not read
    ++left_out_;
    return;
  }
  Bytes raw = read_up_to(*region.source(), offset, std::min(size, kRawShown));
  std::string hex = hex_text(raw);
  if (size > kRawShown) hex += " ..";
  add({std::move(full), region.name(), offset, size, std::move(hex), value});
}

void Tracer::computed(const std::string& name, const std::string& value) {
  std::string full = full_name(name);
  if (wish_.at || !named(full)) return;
  add({std::move(full), "", std::nullopt, 0, "", value});
}

void Tracer::failed(const std::string& name, const Region& region, std::uint64_t offset,
                    const std::string& why) {
  if (std::exchange(failed_, true)) return;
  Bytes raw = read_up_to(*region.source(), offset, kRawShown);
  fields_.push_back({full_name(name), region.name(), offset, 0, hex_text(raw), "cannot be read: " + why});
}

void Tracer::add(Field field) {
  if (fields_.size() < wish_.most) {
    fields_.push_back(std::move(field));
  } else {
    ++left_out_;
  }
}

bool Tracer::wanted(const std::string& name, const Region& region, std::uint64_t offset,
                    std::uint64_t size) const {
  if (wish_.at && (!region.name().empty() || *wish_.at < offset || *wish_.at - offset >= size)) return false;
  return named(name);
}

bool Tracer::named(const std::string& full) const {
  if (wish_.only.empty() || full == wish_.only) return true;
  for (std::string_view part : split(full, '.')) {
    if (part == wish_.only || part.substr(0, part.find('[')) == wish_.only) return true;
  }
  return false;
}

void Tracer::covered(const Region& region, std::uint64_t offset, std::uint64_t size, Cover cover) {
  if (!region.origin() || size == 0) return;
  const std::string& file = region.origin()->file;
  if (!file.empty() && region.name() == file) files_.try_emplace(file, region.source());
  std::uint64_t begin = region.origin()->at + offset;
  auto kind = static_cast<CoverRange::Kind>(cover);
  std::vector<CoverRange>& marked = marked_[file];
  if (!marked.empty() && marked.back().kind == kind && marked.back().end == begin) {
    marked.back().end += size;
  } else {
    marked.push_back({kind, begin, begin + size});
  }
}

/// Where marks overlap, the one that says more wins: header, then data (which may lie within a table), index,
/// padding.
std::vector<CoverRange> Tracer::ranges_of(const std::string& name, const Source& file) const {
  auto marked = marked_.find(name);
  std::vector<CoverRange> sorted = marked == marked_.end() ? std::vector<CoverRange>() : marked->second;
  std::sort(sorted.begin(), sorted.end(),
            [](const CoverRange& a, const CoverRange& b) { return a.begin < b.begin; });
  static constexpr int kRank[] = {0, 2, 1, 3, 4};  // by kind
  auto later = [](const CoverRange& a, const CoverRange& b) {
    return kRank[static_cast<std::size_t>(a.kind)] > kRank[static_cast<std::size_t>(b.kind)];
  };
  std::priority_queue<CoverRange, std::vector<CoverRange>, decltype(later)> open(later);
  std::vector<CoverRange> out;
  auto add = [&](CoverRange::Kind kind, std::uint64_t begin, std::uint64_t end) {
    if (begin >= end) return;
    if (!out.empty() && out.back().kind == kind) {
      out.back().end = end;
    } else {
      out.push_back({kind, begin, end});
    }
  };
  std::size_t next = 0;
  for (std::uint64_t at = 0, size = file.size(); at < size;) {
    while (next < sorted.size() && sorted[next].begin <= at) open.push(sorted[next++]);
    while (!open.empty() && open.top().end <= at) open.pop();
    std::uint64_t until = next < sorted.size() ? std::min(sorted[next].begin, size) : size;
    if (open.empty()) {
      add(is_alignment(at, until, size) || is_filling(file, at, until) ? CoverRange::Kind::padding
                                                                       : CoverRange::Kind::unexplained,
          at, until);
    } else {
      until = std::min(until, open.top().end);
      add(open.top().kind, at, until);
    }
    at = until;
  }
  return out;
}

}  // namespace operculum::layout
