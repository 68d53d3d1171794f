#include <fmt/format.h>

#include "base/error.h"
#include "base/text.h"
#include "layout/run/read_bytes.h"

namespace operculum::layout {
namespace {

constexpr std::uint64_t kLongestText = 1 << 20;  // bytes

/// What text and bytes have in common: how long they are.
template <typename Plan>
Value read_run(Frame& frame, Reader& reader, const Plan& plan) {
  using Ends = TextPlan::Ends;
  Run& run = frame.run;
  std::uint64_t length = 0;
  switch (plan.ends) {
    case Ends::mark:
      return take_until(run, reader, plan.mark, plan.where);
    case Ends::word:
      return take_word(run, reader, plan.where);
    case Ends::to_end:
      length = reader.limit - std::min(reader.at, reader.limit);
      break;
    case Ends::sized: {
      Value size = plan.size->read(frame, reader);
      if (size.a < 0) run.fail(plan.where, fmt::format("a length of {} bytes", size.a));
      length = static_cast<std::uint64_t>(size.a);
      break;
    }
    case Ends::length:
      length = plan.fixed ? *plan.fixed : plan.length->size(frame, "a length");
      break;
  }
  std::uint64_t begin = reader.at;
  if (length > reader.limit - std::min(reader.at, reader.limit))
    take(run, reader, length, plan.where);  // throws
  reader.at += length;
  return Value::bytes(reader.region, begin, length);
}

Value transformed(Frame& frame, const Value& raw, const ChainPlan& chain) {
  auto step = chain.resolve(frame);
  if (!step) return raw;
  Blob blob;
  blob.inner = raw;
  blob.steps.push_back(std::move(*step));
  return frame.run.store().add(std::move(blob));
}

/// Without what fills it up: behind a zero byte everything, of other fill bytes those at the end.
std::string_view unpadded(std::string_view text, const std::string& padding) {
  if (padding == std::string(1, '\0')) return text.substr(0, text.find('\0'));
  while (text.size() >= padding.size() && text.ends_with(padding)) text.remove_suffix(padding.size());
  return text;
}

}  // namespace

Value TextPlan::read(Frame& frame, Reader& reader) const {
  Value raw = read_run(frame, reader, *this);
  if (transform != nullptr) {
    Run& run = frame.run;
    Value bytes = transformed(frame, raw, *transform);
    Run::Piece piece = run.placed(bytes);
    std::string text;
    decode(run, Value::bytes(piece.region, piece.offset, piece.length), text);
    raw = run.keep(std::move(text));
  }
  if (checks) {
    std::string text;
    decode(frame.run, raw, text);
    std::string wanted;
    for (const NodePtr& one : allowed) {
      std::string other = one->text_of(frame);
      if (other == text) return raw;
      wanted += fmt::format("{}\"{}\"", wanted.empty() ? "" : " or ", escape(other));
      if (raw.kind == Value::Kind::bytes)
        frame.run.wants(raw.object, raw.offset(), other + (ends == Ends::mark ? mark : ""));
    }
    frame.run.fail(where, fmt::format("expected {}, found \"{}\"", wanted, escape(text)));
  }
  return raw;
}

void TextPlan::decode(Run& run, const Value& raw, std::string& out) const {
  if (raw.kind == Value::Kind::text) {
    out += run.text(raw);
    return;
  }
  if (!raw.there()) run.fail(where, "this text is not there");
  if (auto base = run.recorded(raw.object))
    run.recorder->texts.push_back({this, *base + raw.offset(), raw.b, run.recorder->numbers.size()});
  if (raw.b > kLongestText)
    run.fail(where, fmt::format("a text of {} bytes; more than 1 MiB is no name", raw.b));
  std::string_view text = as_text(run.region(raw.object).at(raw.offset(), raw.b));
  if (padding) text = unpadded(text, *padding);
  if (encoding.empty() || (encoding == "UTF-8" && is_utf8(text))) {
    out += text;
    return;
  }
  auto decoded = to_utf8(text, encoding);
  out += decoded ? *decoded : std::string(text);
}

Value BytesPlan::read(Frame& frame, Reader& reader) const {
  if (constant) {
    std::uint64_t at = reader.at;
    frame.run.wants(reader.region, at, *constant);
    ByteView found = take(frame.run, reader, constant->size(), where);
    if (as_text(found) != *constant) {
      frame.run.fail(where, fmt::format("expected \"{}\" at offset {}, found \"{}\"", escape(*constant), at,
                                        escape(as_text(found))));
    }
    return Value::bytes(reader.region, at, constant->size());
  }
  Value raw = read_run(frame, reader, *this);
  if (auto base = frame.run.recorded(raw.object))
    frame.run.recorder->runs.push_back({*base + raw.offset(), raw.b});
  return transform != nullptr ? transformed(frame, raw, *transform) : raw;
}

}  // namespace operculum::layout
