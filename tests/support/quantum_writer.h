#pragma once

#include <vector>

#include "base/bytes.h"

namespace operculum::test {

/// Quantum frames of 32 KiB as cabinets hold them; a window of 2^`window_bits` bytes.
std::vector<Bytes> pack_quantum(ByteView plain, unsigned window_bits);

}  // namespace operculum::test
