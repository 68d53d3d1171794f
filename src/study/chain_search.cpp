// A header holds fixed bytes, in their midst perhaps a name, and somewhere among the fixed bytes the size of
// the data behind it. Which bytes those are is settled by walking: with the right ones, the way leads from
// header to header and ends exactly with the file.
#include "study/chain_search.h"

#include <algorithm>
#include <bit>

#include "study/text_test.h"

namespace operculum::study {
namespace {

constexpr std::size_t kMostStart = 48, kMostSide = 40, kMostTail = 64;  // bytes
constexpr std::size_t kLeastRows = 3, kMostRows = 200'000, kRowsRead = 4096;
constexpr std::uint64_t kMostIdle = 40;  // entries of next to nothing, one behind the other
constexpr double kEnough = 40;           // bits
constexpr NumberForm kSizeForms[] = {{4, false}, {4, true},  {2, false}, {2, true}, {8, false},
                                     {8, true},  {3, false}, {3, true},  {1, false}};

/// How headers are built.
struct Link {
  Shape shape;              ///< with data behind
  NumberForm form;          ///< of the size
  std::size_t size_at = 0;  ///< among the fixed bytes
  std::int64_t bias = 0;    ///< what it counts beside the data, in bytes
};

struct Walk {
  std::size_t rows = 0;
  std::uint64_t end = 0;
  double bits = 0;
  std::uint64_t largest = 0, all = 0;  ///< bytes of data
};

/// Bytes of a file in which headers may be anywhere.
class Walker {
 public:
  Walker(const Space& space, std::uint64_t size) : space_(space), size_(size) {}

  /// The header at `at`: its text, and where it ends; nothing when it is none.
  struct Header {
    std::string_view text;
    std::uint64_t text_at, text_end, end, size;
  };
  std::optional<Header> header(std::uint64_t at, const Link& link) const {
    const Shape& shape = link.shape;
    if (at + shape.before > space_.end()) return std::nullopt;
    Header found{{}, at + shape.before, at + shape.before, 0, 0};
    if (shape.text != TextEnd::none) {
      auto text = read_text(space_.bytes, static_cast<std::size_t>(found.text_at - space_.at), shape);
      if (!text) return std::nullopt;
      found.text = text->text;
      found.text_end += text->taken;
    }
    found.end = found.text_end + shape.after;
    if (found.end > space_.end()) return std::nullopt;
    std::uint64_t place =
        link.size_at < shape.before ? at + link.size_at : found.text_end + link.size_at - shape.before;
    std::uint64_t value = read_number(space_.bytes.data() + (place - space_.at), link.form);
    if (link.bias > 0 && value < static_cast<std::uint64_t>(link.bias)) return std::nullopt;
    found.size = value - static_cast<std::uint64_t>(link.bias);
    if (found.size > size_ - std::min(size_, found.end)) return std::nullopt;
    return found;
  }

  std::uint64_t next(const Header& header, const Link& link) const {
    return round_up(header.end + header.size, link.shape.align);
  }

  /// How far headers lead from `at` on, at most `most` of them.
  Walk walk(std::uint64_t at, const Link& link, std::size_t most) const {
    Walk walk{0, at};
    std::uint64_t before = UINT64_MAX, idle = 0;
    double limit = link.form.width * 8.0 - static_cast<double>(std::bit_width(size_));
    while (walk.rows < most && walk.end < size_) {
      auto found = header(walk.end, link);
      if (!found) return walk;
      ++walk.rows;
      idle = found->size > 16 ? 0 : idle + 1;
      if (idle > kMostIdle) return walk;
      if (found->size != before && walk.bits < 400)
        walk.bits += std::min(std::max(limit, 0.0), static_cast<double>(std::bit_width(found->size))) +
                     (found->text.empty() ? 0 : 3);
      walk.largest = std::max(walk.largest, found->size);
      walk.all += found->size;
      before = found->size;
      walk.end = next(*found, link);
    }
    walk.end = std::min(walk.end, size_);
    return walk;
  }

 private:
  const Space& space_;
  std::uint64_t size_;
};

class ChainSearch {
 public:
  ChainSearch(const SpacePtr& space, const Subject& subject)
      : space_(space), frame_(subject, space), walker_(*space, frame_.file_size()) {}

  std::vector<Hypothesis> find() {
    for (std::size_t start = 0; start < std::min<std::size_t>(kMostStart, space_->bytes.size()); ++start)
      without_names(start);
    for (std::size_t at = 0; at < std::min<std::size_t>(kMostStart, space_->bytes.size()); ++at)
      with_names(at);
    return std::move(best_);
  }

 private:
  void try_link(std::uint64_t start, const Link& link) {
    Walk first = walker_.walk(start, link, kLeastRows);
    if (first.rows < kLeastRows && first.end != frame_.file_size()) return;
    Walk walk = walker_.walk(start, link, kMostRows);
    if (walk.end != frame_.file_size() || walk.rows < kLeastRows ||
        walk.bits < (link.shape.text == TextEnd::none ? 2 * kEnough : kEnough))
      return;
    if (walk.bits + 30 < most_bits_ || walk.largest * 4 > walk.all * 3 + 4096) return;
    most_bits_ = std::max(most_bits_, walk.bits);
    build(start, link, walk);
  }

  void without_names(std::size_t start) {
    for (NumberForm form : kSizeForms) {
      // A number that could hardly be too large leads on from anywhere.
      if (form.width * 8 < std::bit_width(frame_.file_size()) + 4u) continue;
      for (std::size_t size_at = 0; size_at + form.width <= kMostTail + 8; ++size_at) {
        for (std::size_t fixed = size_at + form.width;
             fixed <= std::min<std::size_t>(size_at + kMostTail, kMostTail + 32); ++fixed) {
          for (unsigned align : {1u, 2u, 4u, 16u}) {
            for (std::int64_t bias : {std::int64_t{0}, static_cast<std::int64_t>(fixed)}) {
              Link link{{fixed, 0, TextEnd::none, {}, 1, align, true}, form, size_at, bias};
              try_link(start, link);
            }
          }
        }
      }
    }
  }

  /// A name, or its length, at `at`.
  void with_names(std::size_t at) {
    bool inside = at > 0 && is_ascii_name_byte(space_->bytes[at - 1]);
    for (Shape shape : name_shapes()) {
      if (shape.unit != 1) continue;
      if (shape.text == TextEnd::zero && inside) continue;
      if (!read_text(space_->bytes, at, shape)) continue;
      shape.data_behind = true;
      for (std::size_t before = 0; before <= std::min(at, kMostSide); ++before) {
        for (std::size_t after = 0; after <= kMostSide; ++after) {
          shape.before = before;
          shape.after = after;
          for (unsigned align : {1u, 4u, 16u}) {
            shape.align = align;
            for (NumberForm form : kSizeForms) {
              for (std::size_t size_at = 0; size_at + form.width <= shape.fixed(); ++size_at) {
                if (size_at < before && size_at + form.width > before) continue;
                try_link(at - before, {shape, form, size_at, 0});
              }
            }
          }
        }
      }
    }
  }

  void build(std::uint64_t start, const Link& link, const Walk& walk) {
    Grid grid;
    grid.space = space_;
    grid.shape = link.shape;
    grid.begin = start;
    grid.end = walk.end;
    grid.count = walk.rows;
    std::uint64_t at = start, last = start;
    for (std::size_t i = 0; i < std::min(walk.rows, kRowsRead); ++i) {
      auto header = walker_.header(at, link);
      if (!header) return;
      auto copy = [&](std::uint64_t from, std::size_t count) {
        auto begin = space_->bytes.begin() + static_cast<std::ptrdiff_t>(from - space_->at);
        grid.cells.insert(grid.cells.end(), begin, begin + static_cast<std::ptrdiff_t>(count));
      };
      copy(at, link.shape.before);
      copy(header->text_end, link.shape.after);
      if (link.shape.text != TextEnd::none) grid.texts.emplace_back(header->text);
      grid.starts.push_back(at);
      grid.ends.push_back(header->end);
      last = header->end + header->size;
      at = walker_.next(*header, link);
    }
    grid.break_at = grid.rows();
    Placement placement;
    placement.size = Column{Role::size, link.size_at, link.form, link.form.width};
    placement.size->why = "leads from each header to the next, and at last to the end of the file";
    placement.bias = link.bias;
    placement.begin = grid.ends.front();
    placement.end = std::max(last, walk.end);
    placement.align = link.shape.align;
    placement.bits = walk.bits - (link.shape.align > 1 ? 2 : 0) - (link.bias != 0 ? 3 : 0) -
                     (link.form.width == 3  ? 6
                      : link.form.width < 3 ? 1
                                            : 0);
    auto found = explain(std::move(grid), frame_, {}, placement);
    if (!found) return;
    keep_best(best_, std::move(*found));
  }

  SpacePtr space_;
  Frame frame_;
  Walker walker_;
  std::vector<Hypothesis> best_;
  double most_bits_ = 0;
};

}  // namespace

std::vector<Hypothesis> search_chains(const SpacePtr& space, const Subject& subject) {
  // A chain goes through the whole file: it has to be here.
  if (!space->plain || space->at != 0 || space->bytes.size() != subject.size()) return {};
  return ChainSearch(space, subject).find();
}

}  // namespace operculum::study
