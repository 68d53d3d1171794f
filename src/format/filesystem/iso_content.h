#pragma once

#include "container/entry.h"
#include "format/filesystem/iso_record_reader.h"

namespace operculum::iso {

/// The bytes of a file with holes, whose stored ones begin with tables (IEEE P1282, 4.1.7): a tree with 256
/// block numbers in each; 0 is a hole. Throws Malformed where the tables make no sense.
SourcePtr sparse_file(const SourcePtr& stored, const RockRidge& ridge);

/// The content of a file that zisofs packs: a header, pointers to blocks, the blocks. Throws Malformed where
/// the header does not fit what the folder's record says, or the pointers are out of order.
ContentPtr packed_file(const SourcePtr& stored, const RockRidge& ridge);

}  // namespace operculum::iso
