#include "collection/loading_order.h"

#include <algorithm>

#include "base/parallel.h"
#include "base/text.h"
#include "collection/merged_container.h"
#include "collection/sameness.h"
#include "task/places.h"

namespace operculum {
namespace {

/// The last number in a name; -1 when there is none.
std::int64_t number_in(std::string_view name) {
  std::size_t end = name.size();
  auto digit = [](char c) { return c >= '0' && c <= '9'; };
  while (end > 0 && !digit(name[end - 1])) --end;
  std::size_t begin = end;
  while (begin > 0 && digit(name[begin - 1])) --begin;
  auto number = parse_number(name.substr(begin, end - begin));
  return number && *number <= INT64_MAX ? static_cast<std::int64_t>(*number) : -1;
}

/// A target's last part, also of a folder that is written with a slash.
std::string_view name_of_target(std::string_view target) {
  while (target.size() > 1 && target.ends_with('/')) target.remove_suffix(1);
  return base_name(target);
}

}  // namespace

std::vector<std::string> in_loading_order(std::vector<std::string> targets, LoadingRule rule) {
  if (rule == LoadingRule::given) return targets;
  auto key = [rule](const std::string& target) {
    std::string name = to_lower(name_of_target(target));
    return std::pair(rule == LoadingRule::number ? number_in(name) : 0, name);
  };
  std::stable_sort(targets.begin(), targets.end(),
                   [&](const std::string& a, const std::string& b) { return key(a) < key(b); });
  return targets;
}

bool ProvidedPath::differs() const {
  return std::any_of(providers.begin(), providers.end(),
                     [](const Provider& one) { return one.standing != Provider::Standing::same; });
}

LoadingOrder::LoadingOrder(const std::vector<std::string>& targets, const LoadingRequest& request,
                           OpenContext& context, Progress& progress)
    : request_(request) {
  for (std::string& root : request_.roots) root = key_of(clean_path(root));
  Meter meter(context.limits, UINT64_MAX);  // each pack is held against its own size when it is opened
  Reading reading{context, meter, progress};
  for (const std::string& target : targets) {
    LoadedPack& pack = packs_.emplace_back();
    pack.target = target;
    open(pack, context, reading);
  }
  for (std::size_t i = 0; i < packs_.size(); ++i) add(request_.first_wins ? packs_.size() - 1 - i : i);
  judge(reading);
  count();
}

void LoadingOrder::open(LoadedPack& pack, OpenContext& context, const Reading& reading) {
  try {
    Place place = resolve_with_folders(pack.target, context);
    if (!place.is_container())
      throw Malformed(no_container_text(place, "; `operculum identify` tells what it is"));
    pack.inventory = std::make_unique<Inventory>(place, reading);
    pack.format = place.layers.back().format;
    pack.size = bytes_of_file(place);
  } catch (const std::exception& thrown) {
    Error error = as_error(thrown);
    pack.error = error.what();
    pack.error_kind = error.kind();
  }
}

/// Puts a pack over those that were added before.
void LoadingOrder::add(std::size_t index) {
  LoadedPack& pack = packs_[index];
  if (!pack.inventory) return;
  for (Item& item : pack.inventory->items) {
    if (!item.is_file()) continue;
    auto path = beneath_root(item.path);
    if (!path) {
      ++pack.outside;
      continue;
    }
    ProvidedPath& provided = paths_[key_of(*path)];
    if (!provided.providers.empty() && provided.winner().pack == index) {
      provided.providers.back().item = &item;  // the same path twice in one pack: the later one
    } else {
      provided.providers.push_back({index, &item});
      ++pack.files;
    }
    provided.path = *path;
  }
}

void LoadingOrder::judge(const Reading& reading) {
  std::vector<ProvidedPath*> contested;
  for (auto& [key, provided] : paths_) {
    if (provided.contested()) contested.push_back(&provided);
  }
  for_each_of(contested.size(), request_.jobs, [&](std::size_t i) {
    Provider& winner = contested[i]->providers.back();
    for (Provider& loser : contested[i]->providers) {
      if (&loser == &winner || reading.progress.stop) continue;
      Sides sides{*packs_[loser.pack].inventory, *packs_[winner.pack].inventory, false};
      auto sight = verdict_at_sight(*loser.item, *winner.item, sides);
      Verdict verdict = sight ? *sight : verdict_by_bytes(*loser.item, *winner.item, sides, reading);
      loser.standing = verdict == Verdict::same      ? Provider::Standing::same
                       : verdict == Verdict::changed ? Provider::Standing::differs
                                                     : Provider::Standing::unknown;
    }
  });
}

void LoadingOrder::count() {
  for (const auto& [key, provided] : paths_) {
    std::size_t winner = provided.winner().pack;
    ++packs_[winner].wins;
    for (const Provider& loser : provided.providers) {
      if (loser.pack == winner) continue;
      bool same = loser.standing == Provider::Standing::same;
      ++(same ? packs_[loser.pack].hidden_same : packs_[loser.pack].hidden);
      if (!same) ++wins_over_[{winner, loser.pack}];
    }
  }
}

std::uint64_t LoadingOrder::wins_over(std::size_t winner, std::size_t loser) const {
  auto found = wins_over_.find({winner, loser});
  return found == wins_over_.end() ? 0 : found->second;
}

/// A path beneath the first root that it lies in; nothing when it lies in none.
std::optional<std::string> LoadingOrder::beneath_root(const std::string& path) const {
  if (request_.roots.empty()) return path;
  std::string key = key_of(path);
  for (const std::string& root : request_.roots) {
    if (root == ".") return path;
    if (key.size() > root.size() && key.starts_with(root) && key[root.size()] == '/')
      return path.substr(root.size() + 1);
  }
  return std::nullopt;
}

std::string LoadingOrder::key_of(std::string_view path) const {
  return request_.letters == Glob::Case::ignored ? to_lower(path) : std::string(path);
}

const ProvidedPath* LoadingOrder::find(const std::string& path) const {
  std::string clean = clean_path(path);
  auto found = paths_.find(key_of(clean));
  if (found == paths_.end()) {
    if (auto beneath = beneath_root(clean)) found = paths_.find(key_of(*beneath));
  }
  return found == paths_.end() ? nullptr : &found->second;
}

Place LoadingOrder::merged(OpenContext& context) {
  std::vector<MergedFile> files;
  std::vector<std::map<const Item*, bool>> wanted(packs_.size());
  for (const auto& [key, provided] : paths_) {
    const Provider& winner = provided.winner();
    files.push_back({provided.path, packs_[winner.pack].inventory.get(), winner.item});
    wanted[winner.pack][winner.item] = true;
  }
  for (std::size_t i = 0; i < packs_.size(); ++i) {
    if (packs_[i].inventory)
      packs_[i].inventory->keep([&](const Item& item) { return wanted[i].contains(&item); }, context);
  }
  std::uint64_t stored = 0;
  for (const LoadedPack& pack : packs_) stored += pack.size;
  context.limits.begin(stored, stored);
  Place place;
  place.name = "loading order";
  place.layers.push_back(
      {&merged_format(), make_merged(std::move(files)), place.name, Entry::kUnknownSize, nullptr, nullptr});
  return place;
}

}  // namespace operculum
