#pragma once

#include <span>
#include <vector>

#include "base/bytes.h"

namespace operculum {

/// Lengths in bits, up to `most_bits`, of the prefix code that takes the fewest bits for symbols that occur
/// `counts` times (package-merge, after Larmore and Hirschberg). Symbols that do not occur have length 0. The
/// code is complete: one symbol alone gets a neighbour that is not used. There must be no more symbols in use
/// than codes.
std::vector<Byte> code_lengths(std::span<const std::uint32_t> counts, unsigned most_bits);

/// The canonical codes of these lengths: shorter ones first, equal ones in the order of their symbols; the
/// first bit is the highest.
std::vector<std::uint16_t> canonical_codes(std::span<const Byte> lengths);

/// What each symbol of a code costs, in bits; those that are not used cost what the rarest do.
std::vector<std::uint32_t> symbol_costs(std::span<const Byte> lengths);

/// How many symbols there are up to the last that is used.
std::size_t used_symbols(std::span<const Byte> lengths);

}  // namespace operculum
