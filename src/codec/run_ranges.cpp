#include "codec/run_ranges.h"

#include <fmt/format.h>

#include <algorithm>
#include <optional>

#include "base/error.h"
#include "base/text.h"
#include "codec/run_stream.h"

namespace operculum {
namespace {

using What = RunRule::What;

struct RuleWord {
  std::string_view word;
  What what;
};
constexpr RuleWord kWords[] = {{"self", What::self},
                               {"copy", What::copy},
                               {"repeat", What::repeat},
                               {"zeros", What::zeros},
                               {"end", What::end}};
constexpr unsigned kMostCount = 1 << 20;

[[noreturn]] void refuse(std::string_view item, std::string_view why) {
  throw Malformed(
      fmt::format("rle: the rule \"{}\" {}; rules are like 00-7f copy 1, 80-fe repeat 3, ff zeros wide 2",
                  escape(item), why));
}

std::string_view next_word(std::string_view& rest) {
  rest.remove_prefix(std::min(rest.find_first_not_of(' '), rest.size()));
  std::string_view word = rest.substr(0, rest.find(' '));
  rest.remove_prefix(word.size());
  return word;
}

void add_rule(std::string_view item, RunRules& rules) {
  std::string_view rest = item, codes = next_word(rest), what = next_word(rest);
  std::size_t dash = codes.find('-');
  auto low = parse_number(codes.substr(0, dash), 16);
  auto high = dash == std::string_view::npos ? low : parse_number(codes.substr(dash + 1), 16);
  if (!low || !high || *low > *high || *high > 0xff) refuse(item, "has no codes from 00 to ff");
  auto word = std::find_if(std::begin(kWords), std::end(kWords),
                           [&](const RuleWord& one) { return one.word == what; });
  if (word == std::end(kWords)) refuse(item, "announces neither self, copy, repeat, zeros nor end");
  std::string_view last = next_word(rest);
  bool wide = last == "wide";
  if (wide) last = next_word(rest);
  auto first = last.empty() ? std::optional<std::uint64_t>(0) : parse_number(last);
  if (!first || *first > kMostCount || !next_word(rest).empty()) refuse(item, "ends with no count");
  for (auto code = *low; code <= *high; ++code)
    rules[code] = {word->what, static_cast<unsigned>(*first + (code - *low) * (wide ? 256 : 1)), wide};
}

class RunRangesStream final : public RunStream {
 public:
  RunRangesStream(StreamPtr packed, const RunRules& rules) : RunStream(std::move(packed)), rules_(rules) {}

 private:
  bool begin() override {
    if (ended_) return false;
    Byte code = next();
    const RunRule& rule = rules_[code];
    std::size_t count = rule.count + (rule.wide ? next() : 0u);
    switch (rule.what) {
      case What::none:
        throw Malformed(fmt::format("run-length data: code {:02x} has no rule; the data is damaged", code));
      case What::self:
        repeat(1, code);
        return true;
      case What::copy:
        copy(count);
        return true;
      case What::repeat:
        repeat(count, next());
        return true;
      case What::zeros:
        repeat(count, 0);
        return true;
      case What::end:
        ended_ = true;
        return false;
    }
    return false;
  }

  RunRules rules_;
  bool ended_ = false;
};

class RunRangesPacker {
 public:
  explicit RunRangesPacker(const RunRules& rules) : rules_(rules) {}

  Bytes pack(ByteView plain) {
    for (std::size_t at = 0; at < plain.size();) {
      std::size_t run = 1;
      while (at + run < plain.size() && plain[at + run] == plain[at]) ++run;
      std::size_t repeated = repeat(plain[at], run);
      if (repeated == 0) literals_.push_back(plain[at]);
      at += std::max<std::size_t>(repeated, 1);
    }
    flush();
    auto end = std::find_if(rules_.begin(), rules_.end(),
                            [](const RunRule& rule) { return rule.what == What::end; });
    if (end != rules_.end()) out_.push_back(static_cast<Byte>(end - rules_.begin()));
    return std::move(out_);
  }

 private:
  /// Writes as many of `run` equal bytes as one code can, where that is shorter; how many.
  std::size_t repeat(Byte byte, std::size_t run) {
    std::size_t best = 0, cost = 0;
    unsigned code = 0, more = 0;
    for (unsigned i = 0; i < rules_.size(); ++i) {
      const RunRule& rule = rules_[i];
      if (rule.what != What::repeat && (rule.what != What::zeros || byte != 0)) continue;
      std::size_t most = std::min<std::size_t>(run, rule.count + (rule.wide ? 0xffu : 0u));
      if (most < rule.count || most <= best) continue;
      best = most;
      code = i;
      more = static_cast<unsigned>(most - rule.count);
      cost = 1 + (rule.wide ? 1 : 0) + (rule.what == What::repeat ? 1 : 0);
    }
    bool worth = best > cost || (best > 0 && !can_be_literal(byte));
    if (!worth) return 0;
    flush();
    out_.push_back(static_cast<Byte>(code));
    if (rules_[code].wide) out_.push_back(static_cast<Byte>(more));
    if (rules_[code].what == What::repeat) out_.push_back(byte);
    return best;
  }

  bool can_be_literal(Byte byte) const {
    return rules_[byte].what == What::self ||
           std::any_of(rules_.begin(), rules_.end(),
                       [](const RunRule& rule) { return rule.what == What::copy; });
  }

  /// Literals: in copies as long as can be, else each by itself.
  void flush() {
    for (std::size_t at = 0; at < literals_.size();) {
      std::size_t left = literals_.size() - at, best = 0;
      unsigned code = 0;
      for (unsigned i = 0; i < rules_.size(); ++i) {
        const RunRule& rule = rules_[i];
        std::size_t most = std::min<std::size_t>(left, rule.count + (rule.wide ? 0xffu : 0u));
        if (rule.what == What::copy && most >= rule.count && most > best) {
          best = most;
          code = i;
        }
      }
      if (rules_[literals_[at]].what == What::self) {
        out_.push_back(literals_[at++]);
        continue;
      }
      if (best == 0)
        throw Unsupported(fmt::format("packing byte {:02x} with these run-length rules", literals_[at]));
      out_.push_back(static_cast<Byte>(code));
      if (rules_[code].wide) out_.push_back(static_cast<Byte>(best - rules_[code].count));
      out_.insert(out_.end(), literals_.begin() + static_cast<std::ptrdiff_t>(at),
                  literals_.begin() + static_cast<std::ptrdiff_t>(at + best));
      at += best;
    }
    literals_.clear();
  }

  const RunRules& rules_;
  Bytes out_, literals_;
};

}  // namespace

RunRules parse_run_rules(std::string_view text) {
  RunRules rules{};
  while (!text.empty()) {
    std::string_view item = text.substr(0, text.find(','));
    text.remove_prefix(std::min(item.size() + 1, text.size()));
    add_rule(item, rules);
  }
  return rules;
}

StreamPtr open_run_ranges(StreamPtr packed, const RunRules& rules) {
  return std::make_unique<RunRangesStream>(std::move(packed), rules);
}

Bytes pack_run_ranges(ByteView plain, const RunRules& rules) {
  return RunRangesPacker(rules).pack(plain);
}

}  // namespace operculum
