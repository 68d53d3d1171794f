#include "collection/compare.h"

#include <fmt/format.h>

#include <algorithm>
#include <unordered_map>
#include <utility>

#include "base/ordered_work.h"
#include "base/parallel.h"
#include "base/readable_text.h"
#include "base/text.h"
#include "collection/sameness.h"
#include "task/entering.h"
#include "task/places.h"

namespace operculum {
namespace {

constexpr std::uint64_t kMostText = 4 << 20;  // bytes; larger texts are told about as bytes
constexpr std::size_t kTextHead = 4096;       // bytes that tell whether something is text

/// What both sides have under one path.
struct Pair {
  Item* before;
  Item* after;
  Verdict verdict = Verdict::same;
};

std::string mode_text(std::uint32_t mode) {
  return fmt::format("{:04o}", mode);
}

std::string comment_of(const Entry& entry) {
  return entry.extra ? entry.extra->comment : "";
}

/// Pairs off what lies under the same path: the first of a name with the first, the second with the second.
class Pairing {
 public:
  Pairing(Inventory& before, Inventory& after) {
    if (before.is_single() && after.is_single()) {  // their names are not what is asked about
      pairs.push_back({&before.items[0], &after.items[0]});
      return;
    }
    std::unordered_map<std::string_view, std::vector<Item*>> places;
    for (Item& item : after.items) places[item.path].push_back(&item);
    for (auto& [path, items] : places) std::reverse(items.begin(), items.end());
    for (Item& item : before.items) {
      auto place = places.find(item.path);
      if (place == places.end() || place->second.empty()) {
        removed.push_back(&item);
      } else {
        pairs.push_back({&item, place->second.back()});
        place->second.pop_back();
      }
    }
    for (Item& item : after.items) {
      std::vector<Item*>& left = places[item.path];
      if (std::find(left.begin(), left.end(), &item) != left.end()) added.push_back(&item);
    }
    forget_implied_folders(removed, after);
    forget_implied_folders(added, before);
  }

  std::vector<Pair> pairs;
  std::vector<Item*> removed, added;

 private:
  /// Some containers have entries for folders and some only name them in paths: no difference.
  static void forget_implied_folders(std::vector<Item*>& items, const Inventory& other) {
    std::unordered_map<std::string_view, bool> implied;
    for (const Item& item : other.items) {
      for (std::size_t slash = item.path.find('/'); slash != std::string::npos;
           slash = item.path.find('/', slash + 1))
        implied[std::string_view(item.path).substr(0, slash)] = true;
    }
    std::erase_if(items, [&](const Item* item) {
      return item->entry->kind == EntryKind::folder && implied.contains(item->path);
    });
  }
};

/// The sums of files that are on one side only and have a size that is on the other side alone, too.
class SumsOfSizes {
 public:
  SumsOfSizes(const Pairing& pairing, const Sides& sides, unsigned jobs, const Reading& reading)
      : sums_(sides.by_content ? Sums::sha256 : Sums::crc32) {
    std::unordered_map<std::uint64_t, int> seen;  // bit 1: removed, bit 2: added
    for (const Item* item : pairing.removed) seen[size_of(*item)] |= 1;
    for (const Item* item : pairing.added) seen[size_of(*item)] |= 2;
    std::vector<std::pair<const Inventory*, Item*>> wanted;
    auto add = [&](const Inventory& side, Item* item) {
      if (size_of(*item) != 0 && seen[size_of(*item)] == 3 && item->error.empty() && !knows(*item))
        wanted.emplace_back(&side, item);
    };
    for (Item* item : pairing.removed) add(sides.before, item);
    for (Item* item : pairing.added) add(sides.after, item);
    for_each_of(wanted.size(), jobs, [&](std::size_t i) {
      if (!reading.progress.stop) sums_of(*wanted[i].first, *wanted[i].second, sums_, reading);
    });
  }

  /// An empty file is the same as any other: that says nothing.
  bool knows(const Item& item) const {
    return size_of(item) != 0 && (sums_ == Sums::crc32 ? item.crc32.has_value() : !item.sha256.empty());
  }
  std::string key(const Item& item) const {
    return fmt::format("{}:{}:", size_of(item),
                       sums_ == Sums::crc32 ? std::to_string(*item.crc32) : item.sha256);
  }

 private:
  static std::uint64_t size_of(const Item& item) { return item.is_file() ? item.entry->size : 0; }

  Sums sums_;
};

/// Compares two containers, and those within them that differ.
class Comparer {
 public:
  Comparer(const CompareRequest& request, const Reading& reading, const DifferenceSink& sink)
      : request_(request), reading_(reading), sink_(sink) {}

  void run(const Place& before, const Place& after, std::string prefix) {
    Inventory ours(before, reading_), theirs(after, reading_);
    if (ours.is_single() && theirs.is_single() && !prefix.empty()) {
      prefix.pop_back();
      ours.items[0].path.clear();
    }
    Pairing pairing(ours, theirs);
    Sides sides{ours, theirs, request_.content};
    judge(pairing, sides);
    std::vector<std::pair<Item*, Item*>> moved = find_moved(pairing, sides);
    keep_changed(ours, pairing, &Pair::before);
    keep_changed(theirs, pairing, &Pair::after);
    bool same_format = ours.format() == theirs.format();
    tell_pairs(pairing, ours, theirs, prefix, same_format);
    for (auto [from, to] : moved) tell_moved(*from, *to, prefix, same_format);
    for (const Item* item : pairing.removed) tell_lone(Difference::Kind::removed, *item, prefix);
    for (const Item* item : pairing.added) tell_lone(Difference::Kind::added, *item, prefix);
    if (request_.metadata) totals_.order_differs |= in_another_order(pairing);
  }

  const CompareTotals& totals() const { return totals_; }

 private:
  void judge(Pairing& pairing, const Sides& sides) {
    std::vector<Pair*> open;
    for (Pair& pair : pairing.pairs) {
      auto verdict = verdict_at_sight(*pair.before, *pair.after, sides);
      if (verdict) {
        pair.verdict = *verdict;
      } else {
        open.push_back(&pair);
      }
    }
    for_each_of(open.size(), request_.jobs, [&](std::size_t i) {
      if (reading_.progress.stop) return;
      open[i]->verdict = verdict_by_bytes(*open[i]->before, *open[i]->after, sides, reading_);
    });
  }

  /// Of what can only be read from its start, the changed files are kept in a second pass.
  void keep_changed(Inventory& side, const Pairing& pairing, Item* Pair::*which) {
    if (!request_.details && !request_.deep) return;
    std::unordered_map<const Item*, bool> wanted;
    for (const Pair& pair : pairing.pairs) {
      if (pair.verdict == Verdict::changed && pair.before->is_file() && pair.after->is_file())
        wanted[pair.*which] = true;
    }
    if (!wanted.empty())
      side.keep([&](const Item& item) { return wanted.contains(&item); }, reading_.context);
  }

  /// Files that are on one side only, but whose bytes are on the other under another path. Takes them out of
  /// the pairing.
  std::vector<std::pair<Item*, Item*>> find_moved(Pairing& pairing, const Sides& sides) {
    SumsOfSizes sums(pairing, sides, request_.jobs, reading_);
    std::vector<std::pair<Item*, Item*>> moved;
    auto pair_off = [&](const auto& key_of) {
      std::unordered_map<std::string, std::vector<Item**>> places;
      for (auto item = pairing.added.rbegin(); item != pairing.added.rend(); ++item) {
        if (sums.knows(**item)) places[key_of(**item)].push_back(&*item);
      }
      for (Item*& from : pairing.removed) {
        auto place = sums.knows(*from) ? places.find(key_of(*from)) : places.end();
        if (place == places.end() || place->second.empty()) continue;
        Item** to = place->second.back();
        place->second.pop_back();
        moved.emplace_back(std::exchange(from, nullptr), std::exchange(*to, nullptr));
      }
      std::erase(pairing.removed, nullptr);
      std::erase(pairing.added, nullptr);
    };
    pair_off([&](const Item& item) { return sums.key(item) + std::string(base_name(item.path)); });
    pair_off([&](const Item& item) { return sums.key(item); });
    return moved;
  }

  void tell_pairs(Pairing& pairing, const Inventory& ours, const Inventory& theirs, const std::string& prefix,
                  bool same_format) {
    OrderedWork work(request_.jobs);
    for (const Pair& pair : pairing.pairs) {
      if (reading_.progress.stop) break;
      bool files = pair.before->is_file() && pair.after->is_file();
      if (pair.verdict == Verdict::changed && files && request_.deep) {
        work.finish();
        if (go_into(pair, ours, theirs, prefix + pair.before->path)) continue;
      }
      work.submit([&, pair, files]() -> OrderedWork::Report {
        Difference difference = describe(pair, prefix, same_format);
        if (pair.verdict == Verdict::changed && files && request_.details)
          add_details(difference, pair, ours, theirs);
        return [this, pair, difference] { count(pair, difference); };
      });
    }
    work.finish();
  }

  Difference describe(const Pair& pair, const std::string& prefix, bool same_format) const {
    const Item &a = *pair.before, &b = *pair.after;
    Difference out{
        Difference::Kind::changed, prefix + a.path, "", a.entry->kind, a.entry->size, b.entry->size};
    if (pair.verdict == Verdict::unreadable) {
      out.kind = Difference::Kind::unreadable;
      out.message = !a.error.empty() ? "the first: " + a.error : "the second: " + b.error;
    } else if (a.entry->kind != b.entry->kind) {
      out.message = fmt::format("was {}, is {}", with_kind(a), with_kind(b));
    } else if (!a.is_file() && pair.verdict == Verdict::changed) {
      out.message =
          fmt::format("led to {}, leads to {}", shown(a.entry->link_target()), shown(b.entry->link_target()));
    }
    if (request_.metadata) {
      out.metadata = metadata_changes(*a.entry, *b.entry, same_format);
      if (pair.verdict == Verdict::same) out.kind = Difference::Kind::metadata;
    }
    return out;
  }

  static std::string with_kind(const Item& item) { return fmt::format("a {}", name_of(item.entry->kind)); }
  static std::string shown(std::string_view target) {
    return target.empty() ? "nothing" : "\"" + escape(target) + "\"";
  }

  static std::vector<MetadataChange> metadata_changes(const Entry& a, const Entry& b, bool same_format) {
    std::vector<MetadataChange> out;
    if (a.modified.known() && b.modified.known() && a.modified.seconds != b.modified.seconds)
      out.push_back({"time", to_text(a.modified), to_text(b.modified)});
    if (a.mode != b.mode && a.mode != Entry::kNoMode && b.mode != Entry::kNoMode)
      out.push_back({"mode", mode_text(a.mode), mode_text(b.mode)});
    if (same_format && a.has_data() && a.method != b.method)
      out.push_back({"method", std::string(a.method), std::string(b.method)});
    if (comment_of(a) != comment_of(b)) out.push_back({"comment", comment_of(a), comment_of(b)});
    return out;
  }

  /// How two files differ: as texts where both are, else as bytes.
  void add_details(Difference& difference, const Pair& pair, const Inventory& ours,
                   const Inventory& theirs) const {
    try {
      ContentPtr before = ours.content(*pair.before), after = theirs.content(*pair.after);
      if (std::max(pair.before->entry->size, pair.after->entry->size) <= kMostText && is_text(*before) &&
          is_text(*after))
        difference.text = diff_texts(text_of(*before), text_of(*after));
      if (difference.text) return;
      StreamPtr a = before->stream(), b = after->stream();
      difference.bytes = diff_bytes(*a, *b, [this](std::uint64_t count) {
        reading_.meter.add(count);
        reading_.progress.bytes += count;
      });
    } catch (const GuardTripped&) {
      throw;
    } catch (const std::exception& thrown) {
      difference.message = as_error(thrown).what();
    }
  }

  static bool is_text(const Content& content) {
    StreamPtr stream = content.stream();
    Bytes head(kTextHead);
    head.resize(read_fully(*stream, head));
    return looks_like_text(head);
  }

  static std::string text_of(const Content& content) {
    StreamPtr stream = content.stream();
    return readable_text(read_all(*stream, kMostText));
  }

  /// Compares two containers by their entries; false when they are none, or cannot be opened.
  bool go_into(const Pair& pair, const Inventory& ours, const Inventory& theirs, const std::string& path) {
    Place before, after;
    try {
      check_depth(++depth_, reading_.context.limits);
      before = place_in(ours, *pair.before);
      if (!before.layers.empty()) after = place_in(theirs, *pair.after);
    } catch (const GuardTripped&) {
      throw;
    } catch (const std::exception&) {
      before.layers.clear();  // told by its bytes
    }
    bool both = !before.layers.empty() && !after.layers.empty();
    if (both) run(before, after, path + "/");
    --depth_;
    return both;
  }

  /// What a file holds as a container; single streams are stepped through. No layers when it is none.
  Place place_in(const Inventory& side, const Item& item) const {
    Place place;
    place.name = base_name(item.path);
    place.content = side.content(item);
    for (std::size_t depth = depth_;; ++depth) {
      check_depth(depth, reading_.context.limits);
      Opened opened = open_container({place.content, place.name}, reading_.context);
      place.content = opened.content;
      if (!opened.container) return place;
      place.entry.reset();
      place.layers.push_back(
          {opened.format, opened.container, place.name, Entry::kUnknownSize, place.content, nullptr});
      if (!opened.format->single_stream) return place;
      place.entry = std::shared_ptr<const Entry>(opened.container, &opened.container->entries()[0]);
      place.content = opened.container->content(0);
    }
  }

  void count(const Pair& pair, const Difference& difference) {
    ++reading_.progress.entries;
    switch (pair.verdict) {
      case Verdict::same:
        if (pair.before->entry->kind != EntryKind::folder) ++totals_.same;
        if (difference.metadata.empty()) return;
        ++totals_.metadata;
        break;
      case Verdict::changed:
        ++totals_.changed;
        if (!request_.deep && pair.after->is_file() && names_packed(base_name(pair.after->path)))
          ++totals_.containers_changed;
        break;
      case Verdict::unreadable:
        ++totals_.unreadable;
        totals_.key_needed |= pair.before->key_needed || pair.after->key_needed;
        break;
    }
    sink_(difference);
  }

  void tell_moved(const Item& from, const Item& to, const std::string& prefix, bool same_format) {
    ++totals_.moved;
    Difference out{Difference::Kind::moved, prefix + from.path, prefix + to.path,
                   from.entry->kind,        from.entry->size,   to.entry->size};
    if (request_.metadata) out.metadata = metadata_changes(*from.entry, *to.entry, same_format);
    sink_(out);
  }

  void tell_lone(Difference::Kind kind, const Item& item, const std::string& prefix) {
    bool added = kind == Difference::Kind::added;
    ++(added ? totals_.added : totals_.removed);
    std::uint64_t size = item.is_file() ? item.entry->size : 0;
    sink_({kind, prefix + item.path, "", item.entry->kind, added ? 0 : size, added ? size : 0});
  }

  static bool in_another_order(const Pairing& pairing) {
    return !std::is_sorted(pairing.pairs.begin(), pairing.pairs.end(),
                           [](const Pair& a, const Pair& b) { return a.after < b.after; });
  }

  const CompareRequest& request_;
  const Reading& reading_;
  const DifferenceSink& sink_;
  CompareTotals totals_;
  std::size_t depth_ = 0;  // containers gone into
};

}  // namespace

std::string_view name_of(Difference::Kind kind) {
  constexpr std::string_view kNames[] = {"changed", "added", "removed", "moved", "metadata", "unreadable"};
  return kNames[static_cast<std::size_t>(kind)];
}

CompareTotals compare(const Place& before, const Place& after, const CompareRequest& request,
                      OpenContext& context, Progress& progress, const DifferenceSink& sink) {
  std::uint64_t stored = bytes_of_file(before) + bytes_of_file(after);
  Limits& limits = context.limits;
  limits.begin(stored, stored);
  Meter meter(limits);
  Reading reading{context, meter, progress};
  Comparer comparer(request, reading, sink);
  comparer.run(before, after, "");
  return comparer.totals();
}

}  // namespace operculum
