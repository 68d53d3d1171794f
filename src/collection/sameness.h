#pragma once

#include "collection/inventory.h"

namespace operculum {

/// What can be said of two items of the same path.
enum class Verdict { same, changed, unreadable };

/// Two inventories whose items are held against each other.
struct Sides {
  const Inventory& before;
  const Inventory& after;
  bool by_content;  ///< stored checksums are not believed
};

/// What is told without decoding anything; nothing when the bytes have to be looked at.
std::optional<Verdict> verdict_at_sight(const Item& before, const Item& after, const Sides& sides);

/// The same, looking at the bytes; sums that are computed for it stay in the items. Throws GuardTripped.
Verdict verdict_by_bytes(Item& before, Item& after, const Sides& sides, const Reading& reading);

}  // namespace operculum
