// A header holds fixed bytes, in their midst perhaps a name, and somewhere among the fixed bytes the size of
// the data behind it. Which bytes those are is settled by walking: with the right ones, the way leads from
// header to header and ends exactly with the file, or, where it is long, at what stands behind all entries.
#include "study/chain_search.h"

#include <algorithm>
#include <bit>
#include <cmath>

#include "study/text_test.h"

namespace operculum::study {
namespace {

constexpr std::size_t kMostStart = 48, kMostSide = 40, kMostTail = 64, kMostFixed = 96,
                      kUsualHeader = 32;  // bytes
constexpr std::size_t kLeastLinks = 3, kFewLinks = 12, kLeastEarly = 12, kMostLinks = 200'000,
                      kLinksRead = 4096;
constexpr std::uint64_t kMostIdle = 40;   // entries of next to nothing, one behind the other
constexpr double kEnough = 40;            // bits
constexpr double kBitsOfEnd = 40;         // against a way that does not end with the file
constexpr std::uint64_t kMostAlike = 45;  // entries as large as the one before that tell something
constexpr std::size_t kMostTagStart = 128, kTagSize = 4, kMostTagged = 20;  // bytes
constexpr double kBitsOfTag = 6, kBitsOfBeyond = 0.75;
constexpr std::string_view kTagFilling(" \0", 2);
constexpr std::size_t kSampled = 4099;
constexpr NumberForm kSizeForms[] = {{4, false}, {4, true},  {2, false}, {2, true}, {8, false},
                                     {8, true},  {3, false}, {3, true},  {1, false}};

/// How headers are built.
struct Link {
  Shape shape;               ///< with data behind
  NumberForm form;           ///< of the size
  std::size_t size_at = 0;   ///< among the fixed bytes
  std::int64_t bias = 0;     ///< what it counts beside the data, in bytes
  bool tagged = false;       ///< headers begin with a tag
  bool counts_rest = false;  ///< the size counts what lies behind it in the header, too
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
  Walker(const Space& space, const Subject& subject)
      : space_(space), subject_(subject), size_(subject.size()) {
    for (NumberForm form : kSizeForms) surprise_[form.width - 1][form.big ? 1 : 0] = surprise(form);
  }

  /// The header at `at`: its text, and where it ends; nothing when it is none.
  struct Header {
    ByteView bytes;         ///< up to its end; borrowed until the next one is asked for
    std::string_view text;  ///< the same
    std::uint64_t text_end, end, size;
  };
  std::optional<Header> header(std::uint64_t at, const Link& link) const {
    const Shape& shape = link.shape;
    ByteView bytes = bytes_at(at, shape.fixed() + (shape.text == TextEnd::none ? 0 : kMostName + 8));
    if (bytes.size() < shape.fixed()) return std::nullopt;
    Header found{bytes, {}, at + shape.before, 0, 0};
    std::size_t behind_text = shape.before;
    if (shape.text != TextEnd::none) {
      auto text = text_at(at + shape.before, bytes.subspan(shape.before), shape);
      if (!text) return std::nullopt;
      found.text = text->text;
      behind_text += text->taken;
    }
    if (behind_text + shape.after > bytes.size()) return std::nullopt;
    found.bytes = bytes.first(behind_text + shape.after);
    found.text_end = at + behind_text;
    found.end = found.text_end + shape.after;
    std::size_t place =
        link.size_at < shape.before ? link.size_at : behind_text + link.size_at - shape.before;
    std::uint64_t value = read_number(bytes.data() + place, link.form);
    if (link.bias > 0 && value < static_cast<std::uint64_t>(link.bias)) return std::nullopt;
    found.size = value - static_cast<std::uint64_t>(link.bias);
    if (link.counts_rest) {
      std::uint64_t rest = found.bytes.size() - place - link.form.width;
      if (rest > found.size) return std::nullopt;
      found.size -= rest;
    }
    if (found.size > size_ - std::min(size_, found.end)) return std::nullopt;
    return found;
  }

  std::uint64_t next(const Header& header, const Link& link) const {
    return round_up(header.end + header.size, link.shape.align);
  }

  /// How far headers lead from `at` on, at most `most` of them.
  Walk walk(std::uint64_t at, const Link& link, std::size_t most) const {
    Walk walk{0, at};
    std::uint64_t before = UINT64_MAX, idle = 0, alike = 0;
    double limit = surprise_[link.form.width - 1][link.form.big ? 1 : 0];
    double hidden = link.shape.text == TextEnd::none ? std::bit_width(link.shape.align - 1) : 0;
    while (walk.rows < most && walk.end < size_) {
      auto found = header(walk.end, link);
      if (!found) return walk;
      // Zeros lead on through zeros.
      if (walk.rows < kLeastLinks && found->size == 0 && found->bytes.front() == 0 &&
          is_filling(found->bytes))
        return walk;
      ++walk.rows;
      idle = found->size > 16 ? 0 : idle + 1;
      if (idle > kMostIdle) return walk;
      // What filling hides tells nothing.
      std::uint64_t step = found->text.empty() ? next(*found, link) - walk.end : found->size;
      if (step != before && walk.bits < 400)
        walk.bits += std::clamp(static_cast<double>(std::bit_width(found->size)) - hidden, 0.0, limit) +
                     (found->text.empty() ? 0 : 3);
      // Any number that never changes leads through records of one size, if what belongs to a header may be
      // chosen; only one right in front of the data is more than that.
      else if (link.shape.after == 0 && link.size_at + link.form.width == link.shape.before &&
               link.shape.align == 1 && found->size > 16 && ++alike <= kMostAlike &&
               !is_filling(found->bytes))
        walk.bits += 2;
      if (link.tagged) {
        if (!is_tag(found->bytes.first(kTagSize), kTagFilling)) return walk;
        walk.bits += walk.bits < 400 ? kBitsOfTag : 0;
      }
      walk.largest = std::max(walk.largest, found->size);
      walk.all += found->size;
      before = step;
      walk.end = next(*found, link);
    }
    walk.end = std::min(walk.end, size_);
    return walk;
  }

 private:
  static bool is_filling(ByteView bytes) {
    return std::all_of(bytes.begin(), bytes.end(), [&](Byte b) { return b == bytes.front(); });
  }

  /// How little likely it is, in bits, that a number anywhere in these bytes could be a size: where small
  /// numbers abound, ways lead on from wherever one starts.
  double surprise(NumberForm form) const {
    std::size_t asked = 0, fine = 0, step = std::max<std::size_t>(1, space_.bytes.size() / kSampled);
    for (std::size_t at = 0; at + form.width <= space_.bytes.size(); at += step) {
      ++asked;
      fine += read_number(space_.bytes.data() + at, form) <= size_ - at ? 1 : 0;
    }
    return std::log2(static_cast<double>(asked + 1) / static_cast<double>(fine + 1));
  }

  /// The text at `at`, where `bytes` are. The ways to build headers are many and meet the same texts: what
  /// was read is kept.
  std::optional<RecordText> text_at(std::uint64_t at, ByteView bytes, const Shape& shape) const {
    unsigned kind = shape.text == TextEnd::zero ? 0 : shape.length.width * 2 + (shape.length.big ? 1 : 0);
    std::uint64_t key = (at << 5) + kind + 1;
    KnownText& known = texts_[(key * 0x9e3779b97f4a7c15) >> (64 - kKnownTextBits)];
    if (known.key != key) {
      auto text = read_text(bytes, 0, shape);
      known = {key, 0, 0, 0};
      if (text) {
        known.begin = static_cast<std::uint16_t>(text->text.data() - as_text(bytes).data());
        known.length = static_cast<std::uint16_t>(text->text.size());
        known.taken = static_cast<std::uint16_t>(text->taken);
      }
    }
    if (known.taken == 0) return std::nullopt;
    return RecordText{as_text(bytes).substr(known.begin, known.length), known.taken};
  }

  struct KnownText {
    std::uint64_t key = 0;
    std::uint16_t begin = 0, length = 0, taken = 0;  // no bytes taken: there is no text
  };
  static constexpr unsigned kKnownTextBits = 14;

  /// Up to `most` bytes from there on: of a large file only the front is at hand.
  ByteView bytes_at(std::uint64_t at, std::uint64_t most) const {
    if (at >= size_) return {};
    most = std::min(most, size_ - at);
    if (at + most <= space_.end())
      return ByteView(space_.bytes).subspan(static_cast<std::size_t>(at), static_cast<std::size_t>(most));
    read_ = subject_.read(at, most);
    return read_;
  }

  const Space& space_;
  const Subject& subject_;
  std::uint64_t size_;
  double surprise_[8][2] = {};  // of a size, by its width and order
  mutable Bytes read_;
  mutable std::vector<KnownText> texts_ = std::vector<KnownText>(std::size_t{1} << kKnownTextBits);
};

class ChainSearch {
 public:
  ChainSearch(const SpacePtr& space, const Subject& subject)
      : space_(space), frame_(subject, space), walker_(*space, subject) {}

  std::vector<Hypothesis> find() {
    for (std::size_t start = 0; start < std::min<std::size_t>(kMostStart, space_->bytes.size()); ++start)
      without_names(start);
    for (std::size_t at = 0; at < std::min<std::size_t>(kMostStart, space_->bytes.size()); ++at)
      with_names(at);
    for (std::size_t at = 0; at < std::min<std::size_t>(kMostTagStart, space_->bytes.size()); ++at)
      with_tags(at);
    return std::move(best_);
  }

 private:
  void try_link(std::uint64_t start, const Link& link) {
    Walk first = walker_.walk(start, link, kLeastLinks);
    if (first.rows < kLeastLinks && first.end != frame_.file_size()) return;
    Walk walk = walker_.walk(start, link, kMostLinks);
    bool nameless = link.shape.text == TextEnd::none;
    bool early = walk.end != frame_.file_size();
    if (walk.rows < (early ? kLeastEarly : kLeastLinks)) return;
    if (early && (frame_.file_size() - walk.end) * 8 > frame_.file_size()) return;
    // Without names the ways to build a header are many, the more the longer it is.
    std::size_t beyond = link.shape.before - std::min(link.shape.before, kUsualHeader);
    double enough = nameless ? 1.5 * kEnough + kBitsOfBeyond * static_cast<double>(beyond) : kEnough;
    if (early) enough += kBitsOfEnd;
    if (nameless && !early && walk.bits < enough) walk.bits += bits_of_names(start, link, walk);
    if (walk.bits < enough) return;
    if (early) walk.bits -= kBitsOfEnd;
    if (walk.bits + 30 < most_bits_) return;
    // One large number leads far by chance, but among a few it does not lead from one name to the next.
    bool named = !nameless && !early && walk.rows <= kFewLinks && walk.bits >= 1.5 * kEnough;
    if (!named && walk.largest * 4 > walk.all * 3 + 4096) return;
    if (nameless && !link.tagged && is_led_from_anywhere(start, link, walk)) return;
    most_bits_ = std::max(most_bits_, walk.bits);
    build(start, link, walk);
  }

  /// Whether ways beside this one lead on as well: among small numbers they do, and one that comes far is
  /// soon found if what belongs to a header may be chosen.
  bool is_led_from_anywhere(std::uint64_t start, const Link& link, const Walk& walk) const {
    constexpr std::size_t kFewBytes = 12;  // of a header beside its size
    constexpr std::size_t kTried = 32, kFar = 12;
    bool early = walk.end != frame_.file_size();
    if (!early && link.shape.before <= kFewBytes + link.form.width) return false;
    const std::size_t rows = std::min(walk.rows, kLinksRead), step = std::max<std::size_t>(1, rows / kTried);
    std::size_t tried = 0, far = 0;
    std::uint64_t at = start;
    for (std::size_t row = 0; row < rows; ++row) {
      if (row % step == 0) {
        std::uint64_t beside = at + (1 + tried++ % 4) * link.shape.align;
        far += walker_.walk(beside, link, kFar).rows == kFar ? 1 : 0;
      }
      auto found = walker_.header(at, link);
      if (!found) break;
      at = walker_.next(*found, link);
    }
    return far * 8 > tried;
  }

  /// What speaks for a way through headers without texts of varying length: names among their fixed bytes.
  double bits_of_names(std::uint64_t start, const Link& link, const Walk& walk) const {
    constexpr std::size_t kLeastNamed = 5, kLeastName = 8;
    constexpr double kBitsOfName = 6, kLeastLed = 12;
    bool leads = walk.bits >= kLeastLed && walk.all * 4 >= frame_.file_size();  // by sizes that are some
    if (!leads || walk.rows < kLeastNamed || link.shape.before < kLeastName + link.form.width) return 0;
    std::vector<Column> texts = find_texts(grid_of(start, link, walk));
    bool named = std::any_of(texts.begin(), texts.end(), [](const Column& text) {
      return text.role == Role::name && text.width >= kLeastName;
    });
    return named ? kBitsOfName * static_cast<double>(std::min<std::size_t>(walk.rows, 20)) : 0;
  }

  /// Whether the number there could be the size of what lies behind a header: a quick look, for there are
  /// many ways to build one.
  bool could_be_size(std::size_t at, NumberForm form) const {
    return at + form.width <= space_->bytes.size() &&
           read_number(space_->bytes.data() + at, form) <= frame_.file_size() + kMostFixed;
  }

  void without_names(std::size_t start) {
    for (NumberForm form : kSizeForms) {
      // A number that could hardly be too large leads on from anywhere.
      if (form.width * 8 < std::bit_width(frame_.file_size()) + 4u) continue;
      for (std::size_t size_at = 0; size_at + form.width <= kMostTail + 8; ++size_at) {
        if (!could_be_size(start + size_at, form)) continue;
        for (std::size_t fixed = size_at + form.width; fixed <= kMostFixed; ++fixed) {
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

  /// A tag at `at`: with one in each header, narrow sizes tell enough, too.
  void with_tags(std::size_t at) {
    ByteView bytes = space_->bytes;
    if (bytes.size() - at < kTagSize || !is_tag(bytes.subspan(at, kTagSize), kTagFilling)) return;
    for (NumberForm form : kSizeForms) {
      if (form.width < 2) continue;
      for (std::size_t size_at = kTagSize; size_at + form.width <= kMostTagged; ++size_at) {
        for (std::size_t fixed = size_at + form.width; fixed <= kMostTagged; ++fixed) {
          for (unsigned align : {1u, 2u, 4u}) {
            for (std::int64_t bias : {std::int64_t{0}, static_cast<std::int64_t>(fixed)})
              try_link(at, {{fixed, 0, TextEnd::none, {}, 1, align, true}, form, size_at, bias, true});
          }
        }
      }
    }
  }

  /// A name, or its length, at `at`.
  void with_names(std::size_t at) {
    bool inside = is_inside_text(space_->bytes, at);
    for (Shape shape : name_shapes()) {
      if (shape.unit != 1) continue;
      if (shape.text == TextEnd::zero && inside) continue;
      auto text = read_text(space_->bytes, at, shape);
      if (!text) continue;
      shape.data_behind = true;
      for (std::size_t before = 0; before <= std::min(at, kMostSide); ++before) {
        for (std::size_t after = 0; after <= kMostSide; ++after) {
          shape.before = before;
          shape.after = after;
          for (NumberForm form : kSizeForms) {
            for (std::size_t size_at = 0; size_at + form.width <= shape.fixed(); ++size_at) {
              if (size_at < before && size_at + form.width > before) continue;
              std::size_t behind = size_at < before ? 0 : text->taken;
              if (!could_be_size(at - before + size_at + behind, form)) continue;
              for (unsigned align : {1u, 4u, 16u}) {
                shape.align = align;
                try_link(at - before, {shape, form, size_at, 0});
                if (size_at < before) try_link(at - before, {shape, form, size_at, 0, false, true});
              }
            }
          }
        }
      }
    }
  }

  /// The headers of a walk; empty where it leads nowhere.
  Grid grid_of(std::uint64_t start, const Link& link, const Walk& walk) const {
    Grid grid;
    grid.space = space_;
    grid.shape = link.shape;
    grid.begin = start;
    grid.end = walk.end;
    grid.count = walk.rows;
    std::uint64_t at = start;
    for (std::size_t i = 0; i < std::min(walk.rows, kLinksRead); ++i) {
      auto header = walker_.header(at, link);
      if (!header) return {};
      for (ByteView fixed : {header->bytes.first(link.shape.before), header->bytes.last(link.shape.after)})
        grid.cells.insert(grid.cells.end(), fixed.begin(), fixed.end());
      if (link.shape.text != TextEnd::none) grid.texts.emplace_back(header->text);
      grid.starts.push_back(at);
      grid.ends.push_back(header->end);
      at = walker_.next(*header, link);
    }
    grid.break_at = grid.rows();
    return grid;
  }

  void build(std::uint64_t start, const Link& link, const Walk& walk) {
    Grid grid = grid_of(start, link, walk);
    if (grid.starts.empty()) return;
    Placement placement;
    placement.size = Column{Role::size, link.size_at, link.form, link.form.width};
    placement.size->why = walk.end == frame_.file_size()
                              ? "leads from each header to the next, and at last to the end of the file"
                              : "leads from each header to the next";
    placement.bias = link.bias;
    placement.counts_rest = link.counts_rest;
    placement.begin = grid.ends.front();
    placement.end = walk.end;
    placement.align = link.shape.align;
    placement.bits = walk.bits - (link.shape.align > 1 ? 2 : 0) -
                     (link.bias != 0 || link.counts_rest ? 3 : 0) -
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
  if (!space->plain || space->at != 0) return {};  // a chain goes through the whole file
  return ChainSearch(space, subject).find();
}

}  // namespace operculum::study
