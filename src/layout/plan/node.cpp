#include "layout/plan/node.h"

#include <fmt/format.h>

#include <utility>

#include "layout/run/run.h"

namespace operculum::layout {

std::int64_t Node::number(Frame& frame) const {
  Value found = value(frame);
  if (!found.there()) fail(frame.run, "a number is wanted here, and there is none");
  return found.a;
}

std::optional<std::int64_t> Node::number_if(Frame& frame) const {
  Value found = value(frame);
  return found.there() ? std::optional(found.a) : std::nullopt;
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

namespace {

void outline_of(Run& run, const Value& value, Outline& out) {
  if (value.kind == Value::Kind::bytes) {
    out.placed = true;
    out.region = value.object;
    out.offset = value.offset();
    out.length = value.b;
  }
  if (value.kind != Value::Kind::blob) return;
  const Blob& blob = run.store().blobs[value.object];
  if (blob.inner.there()) outline_of(run, blob.inner, out);
  bool first = true;
  std::optional<std::uint64_t> sum = 0;
  for (const Value& part : blob.parts) {
    Outline one;
    outline_of(run, part, one);
    sum = sum && one.length ? std::optional(*sum + *one.length) : std::nullopt;
    if (std::exchange(first, false)) out.steps = one.steps;
  }
  if (!blob.inner.there() && blob.missing.empty()) out.length = sum;
  for (const Step& step : blob.steps) out.steps.push_back(step.kind);
}

}  // namespace

void Node::outline(Frame& frame, Outline& out) const {
  outline_of(frame.run, value(frame), out);
}

std::uint64_t Node::not_negative(Frame& frame, const char* what, std::int64_t found) const {
  if (found < 0) fail(frame.run, fmt::format("{} of {}; it cannot be negative", what, found));
  return static_cast<std::uint64_t>(found);
}

std::uint64_t Node::size(Frame& frame, const char* what) const {
  return not_negative(frame, what, number(frame));
}

std::optional<std::uint64_t> Node::size_if(Frame& frame, const char* what) const {
  auto found = number_if(frame);
  return found ? std::optional(not_negative(frame, what, *found)) : std::nullopt;
}

void Node::fail(const Run& run, const std::string& text) const {
  run.fail(where_, text);
}

}  // namespace operculum::layout
