#pragma once

#include "support/sample_tree.h"

namespace operculum::test {

enum class UdfPartition { plain, metadata, sparable, virtual_table };

struct UdfOptions {
  UdfPartition partition = UdfPartition::plain;
  bool extended = true;  ///< extended file entries
  bool embedded = true;  ///< small files and folders within their entry
  std::size_t sector = 2048;
  Bytes base = {};  ///< an ISO image whose files lie elsewhere: what a bridge disc begins with
};

/// A UDF image of the tree.
Bytes make_udf(const SampleTree& tree, const UdfOptions& options = {});

}  // namespace operculum::test
