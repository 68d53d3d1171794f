#include "layout/plan/value_text.h"

#include <fmt/format.h>

#include "base/error.h"
#include "base/hex_text.h"
#include "base/text.h"
#include "base/time.h"

namespace operculum::layout {
namespace {

constexpr std::uint64_t kShownBytes = 16, kShownText = 60;

std::string quoted(const std::string& text) {
  std::string shown = escape(text.substr(0, kShownText));
  return fmt::format("\"{}\"{}", shown, text.size() > kShownText ? " ..." : "");
}

}  // namespace

std::string value_text(Run& run, const Value& value, const ReadPlan& plan) {
  const ReadPlan* inner = &plan;
  if (auto* placed = dynamic_cast<const PlacedRead*>(inner)) inner = placed->inner.get();
  auto* text = dynamic_cast<const TextPlan*>(inner);
  if (text == nullptr || !value.there()) return value_text(run, value);
  std::string out;
  text->decode(run, value, out);
  return quoted(out);
}

std::string value_text(Run& run, const Value& value) {
  switch (value.kind) {
    case Value::Kind::number:
      return value.a > 9 || value.a < 0
                 ? fmt::format("{} (0x{:x})", value.a, static_cast<std::uint64_t>(value.a))
                 : fmt::format("{}", value.a);
    case Value::Kind::time:
      return to_text(
          {value.a, static_cast<std::uint32_t>(value.b & 0xffffffff), (value.b & Value::kFloating) != 0});
    case Value::Kind::text:
      return quoted(run.text(value));
    case Value::Kind::bytes: {
      std::uint64_t shown = std::min(value.b, kShownBytes);
      try {
        ByteView bytes = run.region(value.object).at(value.offset(), shown);
        std::string out = hex_text(bytes);
        if (value.b > shown) out += fmt::format(" ... ({} bytes)", value.b);
        return out.empty() ? "no bytes" : out;
      } catch (const Error&) {
        return fmt::format("{} bytes at {}, beyond the end", value.b, value.offset());
      }
    }
    case Value::Kind::blob:
      return "bytes that are decoded or joined when they are wanted";
    case Value::Kind::list:
      return fmt::format("{} elements", run.count(value));
    case Value::Kind::failed:
      return "cannot be had";
    case Value::Kind::none:
      return "not there";
    default:
      return "a record";
  }
}

}  // namespace operculum::layout
