// Dumps of NAND flash with the spare bytes of each page (checksums for error correction, marks of bad
// blocks), which whoever reads the data must leave out. Where the spare bytes are not told they are guessed:
// the two headers of a UBI eraseblock lie as far from each other as the first one says, and the spare bytes
// of a page more.
#include "format/flash/nand_dump.h"

#include <fmt/format.h>

#include "base/error.h"
#include "base/units.h"
#include "format/first_file.h"
#include "format/flash/formats.h"
#include "format/image/disk_image.h"
#include "io/mapped_source.h"

namespace operculum {
namespace {

constexpr std::uint32_t kSpares[] = {16,  64,  128, 160, 208, 218, 224, 232,
                                     256, 436, 448, 512, 640, 744, 1280};

/// The data of all pages; blocks that are marked as bad are left out.
class PagesSource final : public MappedSource {
 public:
  PagesSource(SourcePtr dump, NandPages pages, std::vector<std::uint64_t> blocks)
      : MappedSource(std::move(dump), blocks.size() * pages.per_block * pages.page),
        pages_(pages),
        blocks_(std::move(blocks)) {}

 protected:
  MappedRun locate(std::uint64_t offset) const override {
    std::uint64_t data = std::uint64_t{pages_.per_block} * pages_.page;
    std::uint64_t within = offset % data, page = within / pages_.page, byte = within % pages_.page;
    std::uint64_t raw = std::uint64_t{pages_.page} + pages_.spare;
    std::uint64_t at = blocks_[static_cast<std::size_t>(offset / data)] + page * raw + byte;
    return {MappedRun::From::stored, pages_.page - byte, at};
  }

 private:
  NandPages pages_;
  std::vector<std::uint64_t> blocks_;
};

/// A block is bad when the first spare byte of its first or second page is not erased (as makers ship them).
bool is_bad(const Source& dump, std::uint64_t block, const NandPages& pages) {
  std::uint64_t raw = std::uint64_t{pages.page} + pages.spare;
  for (std::uint64_t page = 0; page < 2; ++page) {
    Bytes mark = read_up_to(dump, block + page * raw + pages.page, 1);
    if (!mark.empty() && mark[0] == 0) return true;
  }
  return false;
}

std::optional<NandPages> guess(Probe& probe) {
  ByteView head = probe.head(64);
  if (head.size() < 64 || !starts_with(head, "UBI#") || !probe.source()) return std::nullopt;
  std::uint32_t second = std::uint32_t{head[16]} << 24 | head[17] << 16 | head[18] << 8 | head[19];
  if (second < 512 || second > 16384 || (second & (second - 1)) != 0) return std::nullopt;
  if (Bytes there = probe.at(second, 4); as_text(there) == "UBI!") return std::nullopt;
  for (std::uint32_t spare : kSpares) {
    Bytes there = probe.at(std::uint64_t{second} + spare, 4);
    if (as_text(there) == "UBI!") return NandPages{second, spare, 0};
  }
  return std::nullopt;
}

/// How many pages a block has: the next header of UBI begins one; 64 where there is none.
std::uint32_t pages_per_block(const Source& dump, const NandPages& pages) {
  std::uint64_t raw = std::uint64_t{pages.page} + pages.spare;
  for (std::uint32_t count = 16; count <= 1024; count *= 2) {
    if (as_text(read_up_to(dump, count * raw, 4)) == "UBI#") return count;
  }
  return 64;
}

ContainerPtr open_pages(const Input& input, OpenContext& context, NandPages pages) {
  SourcePtr dump = random_access(*input.content, context.spool);
  if (pages.per_block == 0) pages.per_block = pages_per_block(*dump, pages);
  std::uint64_t raw = std::uint64_t{pages.page} + pages.spare, block = raw * pages.per_block, bad = 0;
  DiskImage image;
  std::vector<std::uint64_t> blocks;
  for (std::uint64_t at = 0; at + block <= dump->size(); at += block) {
    if (is_bad(*dump, at, pages)) {
      ++bad;
    } else {
      blocks.push_back(at);
    }
  }
  if (blocks.empty())
    throw Malformed(
        fmt::format("a NAND dump of less than a block of {} bytes, or of bad blocks alone", grouped(block)));
  image.facts = {{"page", fmt::format("{} bytes and {} spare", pages.page, pages.spare)},
                 {"block", fmt::format("{} pages", pages.per_block)},
                 {"blocks", fmt::format("{}, {} bad", grouped(blocks.size() + bad), bad)}};
  if (dump->size() % block != 0)
    image.findings.push_back(
        {Finding::Level::warning,
         fmt::format("{} bytes behind the last whole block are left out", grouped(dump->size() % block))});
  image.bytes = std::make_shared<PagesSource>(std::move(dump), pages, std::move(blocks));
  return make_disk_image(input, std::move(image));
}

Format described(std::string_view lacks) {
  return {.id = "nand-dump",
          .name = "NAND dump with spare bytes",
          .family = "disk image",
          .specification = "none; layouts of pages as makers' data sheets have them",
          .reads = "data of all pages, bad blocks left out; page sizes guessed for UBI, else told by --pages",
          .lacks = lacks,
          .suffixes = {},
          .single_stream = true};
}

}  // namespace

Format nand_dump_format() {
  Format format = described("correcting errors by the spare bytes");
  format.recognise = [](Probe& probe) { return guess(probe) ? Match::front : Match::none; };
  format.open = [](const Input& input, OpenContext& context) {
    Probe probe(random_access(*input.content, context.spool), input.name);
    auto pages = guess(probe);
    if (!pages) throw Malformed("a NAND dump whose pages cannot be told; say their sizes with --pages");
    return open_pages(input, context, *pages);
  };
  return format;
}

Format told_nand_dump_format(NandPages pages) {
  Format format = described("correcting errors by the spare bytes");
  format.recognise = recognise_first_file();
  format.open = [pages](const Input& input, OpenContext& context) {
    return open_pages(input, context, pages);
  };
  return format;
}

}  // namespace operculum
