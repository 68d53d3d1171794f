#pragma once

#include "base/bytes.h"

namespace operculum {

/// Takes a sector's bytes out of the Elephant diffusers, B and then A, in place ("AES-CBC + Elephant
/// diffuser", N. Ferguson 2006, sections 4.3 and 4.4): each word depends on all others of the sector. Whole
/// words of 32 bits.
void undo_elephant_diffusers(ByteSpan sector);

}  // namespace operculum
