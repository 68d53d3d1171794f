#pragma once

#include <memory>

#include "base/bytes.h"

struct z_stream_s;  // zlib's state

namespace operculum {

/// Packs MSZIP ([MS-MCI]), a block at a time.
class MszipEncoder {
 public:
  /// `level` and `memory_level` in zlib's scale.
  MszipEncoder(int level, int memory_level);
  ~MszipEncoder();

  /// The next block, of up to 32 KiB plain bytes; the view is valid until the next call.
  ByteView pack_block(ByteView plain);

  /// Lets a block that is packed already go by: the next one may look back into it.
  void pass_block(ByteView plain) { history_.assign(plain.begin(), plain.end()); }

 private:
  std::unique_ptr<z_stream_s> state_;
  Bytes history_, out_;  // the block in front; the block as it was packed last
};

}  // namespace operculum
