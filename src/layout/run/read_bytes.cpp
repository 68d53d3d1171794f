#include "layout/run/read_bytes.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "base/text.h"

namespace operculum::layout {
namespace {

constexpr std::uint64_t kLookBlock = 32 * 1024;  // bytes looked at in one go
constexpr std::uint64_t kLongestRun = 1 << 20;   // bytes of a text that ends with a mark
constexpr std::string_view kBlanks(" \t\r\n\0", 5);

bool is_blank(Byte b) {
  return kBlanks.find(static_cast<char>(b)) != std::string_view::npos;
}

}  // namespace

ByteView take(Run& run, Reader& reader, std::uint64_t count, const Span& where) {
  if (count > reader.limit - std::min(reader.at, reader.limit)) {
    Region& region = run.region(reader.region);
    std::uint64_t left = reader.limit - std::min(reader.at, reader.limit);
    std::string text = fmt::format(
        "{}: expected {} bytes at offset {}, but {}", run.plan().description.line_of(where.at), count,
        static_cast<std::int64_t>(reader.at),
        reader.limit >= region.size()
            ? fmt::format("the {} ends after {}", region.name().empty() ? "file" : region.name(), left)
            : fmt::format("the part that is being read ends after {}", left));
    throw CutShort(text);
  }
  ByteView bytes = run.region(reader.region).at(reader.at, count);
  reader.at += count;
  return bytes;
}

std::optional<std::uint64_t> find_in(Run& run, std::uint32_t region, std::uint64_t from, std::uint64_t to,
                                     std::string_view mark) {
  Region& bytes = run.region(region);
  to = std::min(to, bytes.size());
  if (mark.empty()) return std::nullopt;
  while (from < to && to - from >= mark.size()) {
    std::uint64_t count = std::min<std::uint64_t>(to - from, kLookBlock);
    std::string_view block = as_text(bytes.at(from, count));
    std::size_t found = block.find(mark);
    if (found != std::string_view::npos) return from + found;
    from += count - (mark.size() - 1);
    if (count < kLookBlock) break;
  }
  return std::nullopt;
}

std::optional<std::uint64_t> find_last_in(Run& run, std::uint32_t region, std::uint64_t from,
                                          std::uint64_t to, std::string_view mark) {
  Region& bytes = run.region(region);
  to = std::min(to, bytes.size());
  if (mark.empty()) return std::nullopt;
  while (from < to && to - from >= mark.size()) {
    std::uint64_t count = std::min<std::uint64_t>(to - from, kLookBlock);
    std::string_view block = as_text(bytes.at(to - count, count));
    std::size_t found = block.rfind(mark);
    if (found != std::string_view::npos) return to - count + found;
    if (count < kLookBlock) break;
    to -= count - (mark.size() - 1);
  }
  return std::nullopt;
}

Value take_until(Run& run, Reader& reader, std::string_view mark, const Span& where) {
  std::uint64_t limit = std::min(reader.limit, reader.at + std::min(kLongestRun, UINT64_MAX - reader.at));
  auto found = find_in(run, reader.region, reader.at, limit, mark);
  if (!found) {
    run.wants(reader.region, reader.at, mark);
    throw Malformed(fmt::format("{}: expected \"{}\" behind offset {}, found none{}",
                                run.plan().description.line_of(where.at), escape(mark), reader.at,
                                limit < reader.limit ? " within 1 MiB" : ""));
  }
  Value raw = Value::bytes(reader.region, reader.at, *found - reader.at);
  reader.at = *found + mark.size();
  return raw;
}

Value take_word(Run& run, Reader& reader, const Span& where) {
  Region& region = run.region(reader.region);
  std::uint64_t at = reader.at;
  auto byte_at = [&](std::uint64_t offset) { return region.at(offset, 1)[0]; };
  while (at < reader.limit && is_blank(byte_at(at))) ++at;
  std::uint64_t begin = at;
  while (at < reader.limit && at - begin < kLongestRun && !is_blank(byte_at(at))) ++at;
  if (at == begin) {
    run.wants(reader.region, reader.at, "00000000 ");
    throw CutShort(fmt::format("{}: expected a word behind offset {}, found only blanks",
                               run.plan().description.line_of(where.at), reader.at));
  }
  reader.at = at < reader.limit ? at + 1 : at;
  return Value::bytes(reader.region, begin, at - begin);
}

}  // namespace operculum::layout
