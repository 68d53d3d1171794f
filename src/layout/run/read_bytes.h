#pragma once

#include "layout/run/run.h"

namespace operculum::layout {

// How plans read from regions. Offsets in messages are the region's own.

/// `count` bytes at the reader's place, which moves behind them; valid until the next read. Throws Malformed
/// with the line `where` when they lie outside what the reader may read.
ByteView take(Run& run, Reader& reader, std::uint64_t count, const Span& where);

/// Bytes up to `mark`, which is passed over: their offset and length. Throws Malformed when there is none.
Value take_until(Run& run, Reader& reader, std::string_view mark, const Span& where);

/// Blanks, then everything before the next blank, which is passed over.
Value take_word(Run& run, Reader& reader, const Span& where);

/// The offset of `mark` in a region between two offsets; nothing when it is not there.
std::optional<std::uint64_t> find_in(Run& run, std::uint32_t region, std::uint64_t from, std::uint64_t to,
                                     std::string_view mark);
std::optional<std::uint64_t> find_last_in(Run& run, std::uint32_t region, std::uint64_t from,
                                          std::uint64_t to, std::string_view mark);

}  // namespace operculum::layout
