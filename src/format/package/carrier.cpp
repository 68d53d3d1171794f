// Programs that carry a container: a script or an ELF executable with an archive behind it, which it unpacks
// when it is run.
#include <algorithm>

#include "base/error.h"
#include "base/fields.h"
#include "base/text.h"
#include "container/embedded.h"
#include "container/ranges.h"
#include "format/formats.h"

namespace operculum {
namespace {

constexpr std::size_t kMostPayloads = 1000;
constexpr std::string_view kScriptMark = "#!", kElfMark =
                                                   "\x7F"
                                                   "ELF";

/// Where the bytes end that make a 32 or 64-bit little-endian ELF file; nothing when the head is no such.
std::optional<std::uint64_t> elf_end(const Source& bytes) {
  Bytes head = read_up_to(bytes, 0, 64);
  if (head.size() < 64 || !starts_with(head, kElfMark) || head[5] != 1) return std::nullopt;
  LittleFields f(head, "ELF header");
  bool wide = head[4] == 2;
  std::uint64_t segments = wide ? f.u64(32) : f.u32(28), sections = wide ? f.u64(40) : f.u32(32);
  std::size_t row = f.u16(wide ? 54 : 42), rows = f.u16(wide ? 56 : 44);
  std::uint64_t end = sections + std::uint64_t{f.u16(wide ? 58 : 46)} * f.u16(wide ? 60 : 48);
  if (row < 32) return std::nullopt;
  Bytes table = read_up_to(bytes, segments, row * rows);
  LittleFields t(table, "ELF program header", segments);
  for (std::size_t at = 0; at + row <= table.size(); at += row)
    end = std::max(end, wide && row >= 56 ? t.u64(at + 8) + t.u64(at + 32)
                                          : std::uint64_t{t.u32(at + 4)} + t.u32(at + 16));
  return end;
}

/// A script is text; where its front stops being text, something else begins.
bool script_ends_early(ByteView head) {
  return std::any_of(head.begin(), head.end(), [](Byte b) {
    return b < 0x20 && b != '\n' && b != '\r' && b != '\t' && b != '\f' && b != 0x1B;
  });
}

/// From where on a payload may lie; nothing when the bytes are no program that may carry one.
std::optional<std::uint64_t> search_from(const SourcePtr& bytes) {
  Bytes head = read_up_to(*bytes, 0, Probe::kReach);
  if (starts_with(head, kScriptMark))
    return script_ends_early(head) ? std::optional<std::uint64_t>(0) : std::nullopt;
  auto end = elf_end(*bytes);
  return end && *end < bytes->size() ? end : std::nullopt;
}

std::vector<Embedded> find_payload(const SourcePtr& bytes, OpenContext& context, std::size_t most) {
  auto from = search_from(bytes);
  return from ? find_embedded(bytes, *from, bytes->size() - *from, context, {.most = most})
              : std::vector<Embedded>();
}

Match recognise_carrier(Probe& probe) {
  ByteView head = probe.head(4);
  if (!probe.source() || (!starts_with(head, kScriptMark) && !starts_with(head, kElfMark)))
    return Match::none;
  OpenContext trial;
  return find_payload(probe.source(), trial, 1).empty() ? Match::none : Match::inside;
}

ContainerPtr open_carrier(const Input& input, OpenContext& context) {
  SourcePtr bytes = random_access(*input.content, context.spool);
  std::vector<Embedded> found = find_payload(bytes, context, kMostPayloads);
  if (found.empty()) throw Malformed("a program in which no container was found");
  bool script = starts_with(read_up_to(*bytes, 0, kScriptMark.size()), kScriptMark);
  std::vector<NamedRange> ranges = {{script ? "script.sh" : "program", 0, found.front().at}};
  for (const Embedded& one : found) ranges.push_back({name_of(one), one.at, one.size});
  return make_ranges(std::move(bytes), ranges);
}

}  // namespace

Format carrier_format() {
  return {.id = "carrier",
          .name = "self-extracting program",
          .family = "package",
          .specification = "none; ELF (System V ABI) for where a program ends",
          .reads = "scripts and ELF programs with a container behind them",
          .lacks = "",
          .suffixes = {".run", ".bin", ".sh"},
          .kind = "executable",
          .carries = true,
          .recognise = recognise_carrier,
          .open = open_carrier};
}

}  // namespace operculum
