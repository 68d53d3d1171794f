// Programs that carry a container: a script or an ELF executable with an archive behind it, which it unpacks
// when it is run.
#include <algorithm>

#include "base/error.h"
#include "base/structure_fields.h"
#include "base/text.h"
#include "container/embedded.h"
#include "container/ranges.h"
#include "format/package/formats.h"

namespace operculum {
namespace {

constexpr std::size_t kMostPayloads = 1000;
constexpr std::string_view kScriptMark = "#!", kElfMark =
                                                   "\x7F"
                                                   "ELF";

// ELF headers (System V ABI, chapter 4), as far as they tell where things lie. Both widths have the same
// fields; places and sizes are as wide as addresses are.
template <typename Address>
struct ElfHeader {
  Address e_phoff = 0, e_shoff = 0;
  std::uint32_t e_flags = 0;
  std::uint16_t e_ehsize = 0, e_phentsize = 0, e_phnum = 0, e_shentsize = 0, e_shnum = 0;
  static constexpr auto layout =
      little_endian(from_byte<24 + sizeof(Address)>(), field("e_phoff", &ElfHeader::e_phoff),
                    field("e_shoff", &ElfHeader::e_shoff), field("e_flags", &ElfHeader::e_flags),
                    field("e_ehsize", &ElfHeader::e_ehsize), field("e_phentsize", &ElfHeader::e_phentsize),
                    field("e_phnum", &ElfHeader::e_phnum), field("e_shentsize", &ElfHeader::e_shentsize),
                    field("e_shnum", &ElfHeader::e_shnum));
};
template <typename Address>
struct ElfSegment {
  Address p_offset = 0, p_vaddr = 0, p_paddr = 0, p_filesz = 0;
  static constexpr auto layout =
      little_endian(from_byte<sizeof(Address)>(), field("p_offset", &ElfSegment::p_offset),
                    field("p_vaddr", &ElfSegment::p_vaddr), field("p_paddr", &ElfSegment::p_paddr),
                    field("p_filesz", &ElfSegment::p_filesz));
};
constexpr std::size_t kElfHeader = 64, kClassAt = 4, kOrderAt = 5;  // in e_ident
constexpr Byte kWide = 2, kLittle = 1;

template <typename Address>
std::optional<std::uint64_t> end_of(const Source& bytes, ByteView head) {
  auto header = read_structure<ElfHeader<Address>>(head.data());
  std::size_t row = header.e_phentsize;
  if (row < size_on_disk<ElfSegment<Address>>) return std::nullopt;
  std::uint64_t end = header.e_shoff + std::uint64_t{header.e_shentsize} * header.e_shnum;
  Bytes table = read_up_to(bytes, header.e_phoff, row * header.e_phnum);
  for (std::size_t at = 0; at + row <= table.size(); at += row) {
    auto segment = read_structure<ElfSegment<Address>>(table.data() + at);
    end = std::max<std::uint64_t>(end, std::uint64_t{segment.p_offset} + segment.p_filesz);
  }
  return end;
}

/// Where the bytes end that make a 32 or 64-bit little-endian ELF file; nothing when the head is no such.
std::optional<std::uint64_t> elf_end(const Source& bytes) {
  Bytes head = read_up_to(bytes, 0, kElfHeader);
  if (head.size() < kElfHeader || !starts_with(head, kElfMark) || head[kOrderAt] != kLittle)
    return std::nullopt;
  return head[kClassAt] == kWide ? end_of<std::uint64_t>(bytes, head) : end_of<std::uint32_t>(bytes, head);
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
