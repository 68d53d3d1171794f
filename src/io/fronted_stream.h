#pragma once

#include "io/stream.h"

namespace operculum {

/// Bytes read already, then the rest of the stream that they came from.
StreamPtr make_fronted(Bytes front, StreamPtr rest);

/// The front of some content, read from a stream that the content's first reader goes on with: what was
/// decoded to look at it is not decoded again.
struct LookedAt {
  Bytes front;            ///< `reach` bytes, or all there are
  bool complete = false;  ///< the stream ended within them
  ContentPtr content;     ///< stands for the content from now on
};
LookedAt look_at_front(ContentPtr content, std::size_t reach);

}  // namespace operculum
