#pragma once

#include <string>

#include "base/shown.h"
#include "collection/loading_order.h"

namespace operculum {

/// A pack's name as tables show it: the last part of its target.
std::string pack_name(const LoadedPack& pack);

/// The packs in the order in which they are loaded, and what becomes of their files.
Shown packs_table(const LoadingOrder& order);

/// What lost against the winner of a path: "over harbour.pack (same), tide.pack (differs)"; empty when
/// nothing did.
std::string losers_text(const LoadingOrder& order, const ProvidedPath& path);

/// Why a path is what it is: every pack that has it, the first loaded first.
Shown why_text(const LoadingOrder& order, const ProvidedPath& path);

/// A whole page: the packs, a matrix of who wins over whom, the paths that differ.
std::string order_page(const LoadingOrder& order);

/// "same", "differs", "unknown".
std::string_view name_of(Provider::Standing standing);

}  // namespace operculum
