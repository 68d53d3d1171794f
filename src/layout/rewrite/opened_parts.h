#pragma once

#include "layout/rewrite/described_rewrite.h"

namespace operculum::layout {

/// The file with its decoded parts laid open behind it, as bytes that can be changed like its own: packed and
/// encrypted tables, as far as their steps have a way back. The same file where it has none.
DescribedFile with_parts_open(const DescribedFile& file);

/// The file as it became, with its parts in their places again.
DescribedFile continued(const DescribedFile& before, const Made& made);

/// The file alone: its parts are packed into it again, each as it was, and the numbers that tell where and
/// how long what is packed lies are set. Throws Unsupported where that does not come to rest.
Assembly with_parts_closed(DescribedFile file, const Writing& writing);

}  // namespace operculum::layout
