#pragma once

#include "io/stream.h"

namespace operculum {

/// The usual ways of writing runs of equal bytes.
enum class RunLength {
  packbits,  ///< a signed count n: 0 to 127: n + 1 bytes follow; -1 to -127: the next byte, 1 - n times;
             ///< -128: nothing
  pairs,     ///< a count and a byte
  marked,    ///< a marker, a count and a byte; count 0: the marker itself; everything else stands for itself
  high_bit,  ///< a count n: with its highest bit: the next byte, (n & 127) + 1 times; else n + 1 bytes follow
  top_bits,  ///< a byte with its two highest bits set: its other six bits are the count of the next byte
};

/// `plain` in this form.
Bytes pack_run_length(ByteView plain, RunLength form, Byte marker);

/// Ends with the input. Throws CutShort when it ends within a run.
StreamPtr open_run_length(StreamPtr packed, RunLength form, Byte marker);

}  // namespace operculum
