#include "layout/plan/node.h"

#include <fmt/format.h>

#include "layout/run/run.h"

namespace operculum::layout {

std::int64_t Node::number(Frame& frame) const {
  Value found = value(frame);
  if (!found.there()) fail(frame.run, "a number is wanted here, and there is none");
  return found.a;
}

void Node::text(Frame& frame, std::string& out) const {
  Value found = value(frame);
  if (!found.there()) fail(frame.run, "a text is wanted here, and there is none");
  out += frame.run.text(found);
}

Bytes Node::bytes(Frame& frame) const {
  if (type().is(StaticType::Base::text)) {
    std::string all = text_of(frame);
    return Bytes(all.begin(), all.end());
  }
  Value found = value(frame);
  if (!found.there()) fail(frame.run, "bytes are wanted here, and there are none");
  return frame.run.small_bytes(found);
}

void Node::outline(Frame& frame, Outline& out) const {
  Value found = value(frame);
  out.known = found.kind == Value::Kind::bytes;
  if (!out.known) return;
  out.region = found.object;
  out.offset = found.offset();
  out.length = found.b;
}

std::uint64_t Node::size(Frame& frame, const char* what) const {
  std::int64_t found = number(frame);
  if (found < 0) fail(frame.run, fmt::format("{} of {}; it cannot be negative", what, found));
  return static_cast<std::uint64_t>(found);
}

void Node::fail(const Run& run, const std::string& text) const {
  run.fail(where_, text);
}

}  // namespace operculum::layout
