#pragma once

#include <deque>
#include <map>

#include "base/glob.h"
#include "collection/inventory.h"

namespace operculum {

/// In which order packs are loaded.
enum class LoadingRule {
  given,   ///< as they are named
  name,    ///< by their names, whatever the case of letters
  number,  ///< by the last number in their names, then by name: pack2 ahead of pack10
};

/// Sorts targets into the order in which they are loaded.
std::vector<std::string> in_loading_order(std::vector<std::string> targets, LoadingRule rule);

/// The rules of an order: who wins, and which paths are the same.
struct LoadingRequest {
  bool first_wins = false;  ///< a path is taken from the first pack that has it, not from the last
  Glob::Case letters = Glob::Case::exact;  ///< whether paths that differ in ASCII case are the same
  std::vector<std::string> roots;  ///< folders that the game looks in: only what is beneath counts, without
                                   ///< them; none: everything
  unsigned jobs = 0;               ///< threads; 0: one for each processor
};

/// One pack that has a path.
struct Provider {
  std::size_t pack = 0;  ///< in loading order
  Item* item = nullptr;
  /// How its file stands to the one that wins; `same` of that one itself.
  enum class Standing { same, differs, unknown } standing = Standing::same;
};

/// A path that the game asks for, and the packs that have it: the one that wins last.
struct ProvidedPath {
  std::string path;  ///< as the winning pack writes it, beneath the root
  std::vector<Provider> providers;
  const Provider& winner() const { return providers.back(); }
  bool contested() const { return providers.size() > 1; }
  bool differs() const;  ///< some pack that loses has other bytes
};

/// A pack at its place in the order, and what its entries are worth there.
struct LoadedPack {
  std::string target;
  const Format* format = nullptr;  ///< null when it could not be opened
  std::string error;               ///< then why
  ErrorKind error_kind = ErrorKind::malformed;
  std::uint64_t size = 0;         ///< on disk, in bytes
  std::uint64_t files = 0;        ///< that the game can ask for
  std::uint64_t wins = 0;         ///< of these, taken from it
  std::uint64_t hidden_same = 0;  ///< taken from another pack, but with the same bytes
  std::uint64_t hidden = 0;       ///< taken from another pack, with other bytes
  std::uint64_t outside = 0;      ///< files that are beneath no root
  std::unique_ptr<Inventory> inventory;
};

/// Which pack provides each path when several are loaded one over the other. Owns the packs' inventories.
class LoadingOrder {
 public:
  /// Opens all packs, in the order given, and holds the files of each path against the one that wins. A pack
  /// that cannot be opened is kept with its error. Throws GuardTripped.
  LoadingOrder(const std::vector<std::string>& targets, const LoadingRequest& request, OpenContext& context,
               Progress& progress);

  const std::deque<LoadedPack>& packs() const { return packs_; }
  const std::map<std::string, ProvidedPath>& paths() const { return paths_; }  ///< by what is compared

  /// The path that a person names; null when no pack has it.
  const ProvidedPath* find(const std::string& path) const;

  /// What is loaded as a container of its own: each path with the winning file.
  Place merged(OpenContext& context);

  /// How often a pack's file is taken where another one has other bytes.
  std::uint64_t wins_over(std::size_t winner, std::size_t loser) const;

 private:
  void open(LoadedPack& pack, OpenContext& context, const Reading& reading);
  void add(std::size_t pack);
  void judge(const Reading& reading);
  void count();
  std::optional<std::string> beneath_root(const std::string& path) const;
  std::string key_of(std::string_view path) const;

  LoadingRequest request_;
  std::deque<LoadedPack> packs_;
  std::map<std::string, ProvidedPath> paths_;
  std::map<std::pair<std::size_t, std::size_t>, std::uint64_t> wins_over_;  // of those that differ
};

}  // namespace operculum
