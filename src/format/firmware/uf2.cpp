// UF2, a file of blocks of 512 bytes, each with up to 476 bytes for an address of a chip (the format's
// specification, "USB Flashing Format"): a family says for which chip; a block may be of a named file
// instead.
#include <fmt/format.h>

#include "base/error.h"
#include "base/structure.h"
#include "base/text.h"
#include "container/record_fields.h"
#include "format/firmware/firmware_parts.h"
#include "format/firmware/formats.h"
#include "format/firmware/memory_image.h"

namespace operculum {
namespace {

struct Block {
  std::uint32_t magicStart0 = 0, magicStart1 = 0, flags = 0, targetAddr = 0, payloadSize = 0, blockNo = 0,
                numBlocks = 0, fileSize = 0;
  std::array<Byte, 476> data{};
  std::uint32_t magicEnd = 0;
  static constexpr auto layout =
      little_endian(field("magicStart0", &Block::magicStart0), field("magicStart1", &Block::magicStart1),
                    field("flags", &Block::flags), field("targetAddr", &Block::targetAddr),
                    field("payloadSize", &Block::payloadSize), field("blockNo", &Block::blockNo),
                    field("numBlocks", &Block::numBlocks), field("fileSize", &Block::fileSize),
                    field("data", &Block::data), field("magicEnd", &Block::magicEnd));
  bool fits() const {
    return magicStart0 == 0x0A324655 && magicStart1 == 0x9E5D5157 && magicEnd == 0x0AB16F30 &&
           payloadSize <= 476;
  }
};
constexpr std::size_t kBlock = size_on_disk<Block>;
static_assert(kBlock == 512);

enum Flag : std::uint32_t { not_main_flash = 1, file_container = 0x1000, family_id = 0x2000 };

constexpr NamedNumber kFamilies[] = {
    {0xe48bff56, "rp2040"},   {0xe48bff59, "rp2350-arm"}, {0xe48bff5a, "rp2350-riscv"},
    {0xada52840, "nrf52840"}, {0x68ed2b88, "samd21"},     {0x55114460, "samd51"},
    {0x5ee21072, "stm32f1"},  {0x57755a57, "stm32f4"},    {0x53b80f00, "stm32f7"},
    {0xbfdd4eee, "esp32s2"},  {0xc47e5767, "esp32s3"},    {0x1c5f21b0, "esp32"},
    {0x16573617, "atmega32"}, {0x1851780a, "saml21"},     {0x202e3a91, "stm32l0"},
    {0x00ff6919, "stm32l4"},  {0x04240bdf, "stm32l5"},    {0x647824b6, "stm32f0"},
    {0x6b846188, "stm32f3"},  {0x4c71240a, "stm32g0"},    {0x6db66082, "stm32h7"},
    {0x70d16653, "stm32wb"},  {0x2abc77ec, "lpc55"},      {0x4fb2d5bd, "imxrt"},
    {0x1b57745f, "nrf52"},    {0x621e937a, "nrf52833"},   {0xd42ba06c, "esp32c3"},
    {0x2b88d29c, "esp32c2"},  {0x540ddf62, "esp32c6"},    {0x332726f6, "esp32h2"},
};

Match recognise_uf2(Probe& probe) {
  ByteView head = probe.head(kBlock);
  return head.size() == kBlock && read_structure<Block>(head.data()).fits() ? Match::front : Match::none;
}

std::string image_name(const Block& block) {
  if ((block.flags & file_container) != 0) {
    std::string_view rest = as_text(ByteView(block.data).subspan(block.payloadSize));
    return std::string(until_zero(rest));
  }
  if ((block.flags & family_id) == 0) return "image.bin";
  auto known = std::find_if(std::begin(kFamilies), std::end(kFamilies),
                            [&](const NamedNumber& one) { return one.number == block.fileSize; });
  return known != std::end(kFamilies) ? fmt::format("{}.bin", known->name)
                                      : fmt::format("family-{:08x}.bin", block.fileSize);
}

ContainerPtr open_uf2(const Input& input, OpenContext& context) {
  StreamPtr stream = input.content->stream();
  MemoryFile out;
  Bytes raw(kBlock);
  std::uint64_t blocks = 0, damaged = 0, stated = 0, other = 0;
  while (std::size_t count = read_fully(*stream, raw)) {
    if (count < kBlock) {
      out.incomplete = fmt::format("the last block has {} bytes of 512: the file is cut short", count);
      break;
    }
    auto block = read_structure<Block>(raw.data());
    ++blocks;
    if (!block.fits()) {
      ++damaged;
      continue;
    }
    if ((block.flags & not_main_flash) != 0) {
      ++other;
      continue;
    }
    stated = std::max<std::uint64_t>(stated, block.numBlocks);
    out.images[image_name(block)].add(block.targetAddr, ByteView(block.data).first(block.payloadSize));
  }
  out.facts.emplace_back("blocks", std::to_string(blocks));
  if (other > 0) out.facts.emplace_back("blocks that are not for the flash", std::to_string(other));
  if (damaged > 0)
    out.findings.push_back(
        {Finding::Level::fault, fmt::format("{} of {} blocks are damaged", damaged, blocks)});
  if (blocks - other < stated && out.images.size() == 1)
    out.incomplete = fmt::format("{} blocks are stated, {} are there: the file is cut short", stated, blocks);
  return make_memory_file(std::move(out), context);
}

}  // namespace

Format uf2_format() {
  return {.id = "uf2",
          .name = "UF2 file",
          .family = "firmware",
          .specification = "USB Flashing Format (UF2) specification",
          .reads = "images for several families, named files; gaps are holes; view \"ranges\"",
          .lacks = "comparing checksums of blocks (MD5)",
          .suffixes = {".uf2"},
          .views = {kRangesView},
          .recognise = recognise_uf2,
          .open = open_uf2,
          .records = {record_at<Block>("first block", 0)}};
}

}  // namespace operculum
