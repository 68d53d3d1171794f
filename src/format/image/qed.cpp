// QED disk images, after the published format description (interop/qed_spec): a header, then clusters: tables
// of two levels with 64-bit offsets, and data.
#include <fmt/format.h>

#include <algorithm>
#include <bit>

#include "base/fields.h"
#include "base/structure.h"
#include "base/text.h"
#include "container/record_fields.h"
#include "format/image/disk_image.h"
#include "format/image/formats.h"
#include "io/cached_source.h"
#include "io/mapped_source.h"
#include "io/spool.h"

namespace operculum {
namespace {

constexpr std::string_view kMagic{"QED\0", 4};
enum Feature : std::uint64_t {
  backing_file_feature = 1,
  needs_check_feature = 2,
  backing_is_raw_feature = 4
};

struct Header {
  std::uint32_t magic = 0, cluster_size = 0, table_size = 0, header_size = 0;
  std::uint64_t features = 0, l1_table_offset = 0, image_size = 0;
  std::uint32_t backing_filename_offset = 0, backing_filename_size = 0;
  static constexpr auto layout = little_endian(
      field("magic", &Header::magic), field("cluster_size", &Header::cluster_size),
      field("table_size", &Header::table_size), field("header_size", &Header::header_size),
      field("features", &Header::features), from_byte<40>(),
      field("l1_table_offset", &Header::l1_table_offset), field("image_size", &Header::image_size),
      field("backing_filename_offset", &Header::backing_filename_offset),
      field("backing_filename_size", &Header::backing_filename_size));
};

class QedSource final : public MappedSource {
 public:
  QedSource(const SourcePtr& file, const Header& header, SourcePtr parent)
      : MappedSource(file, header.image_size, std::move(parent)),
        tables_(make_cached(file, 64 << 10)),
        cluster_(header.cluster_size),
        entries_(std::uint64_t{header.table_size} * cluster_ / 8),
        l1_(header.l1_table_offset) {}

 protected:
  MappedRun locate(std::uint64_t offset) const override {
    std::uint64_t index = offset / cluster_, within = offset % cluster_, left = cluster_ - within;
    std::uint64_t l1 = index / entries_;
    if (l1 >= entries_)
      throw Malformed(fmt::format("QED: offset {} lies beyond what its tables reach", offset));
    std::uint64_t table = word(l1_ + l1 * 8);
    if (table == 0) return {MappedRun::From::parent, (entries_ - index % entries_) * cluster_ - within};
    std::uint64_t at = word(table + index % entries_ * 8);
    constexpr std::uint64_t kZeroCluster = 1;
    if (at == 0) return {MappedRun::From::parent, left};
    if (at == kZeroCluster) return {MappedRun::From::zeros, left};
    return {MappedRun::From::stored, left, at + within};
  }

 private:
  std::uint64_t word(std::uint64_t at) const {
    return load_little<std::uint64_t>(read_exactly(*tables_, at, 8, "QED table").data());
  }

  SourcePtr tables_;
  std::uint64_t cluster_, entries_, l1_;
};

Header read_header(const Source& file) {
  Bytes raw = read_exactly(file, 0, size_on_disk<Header>, "QED header");
  Header header = read_structure<Header>(raw.data());
  auto refuse = [](auto member, std::string_view expected, std::uint64_t found) {
    refuse_field("QED header", 0, member, expected, fmt::format("{}", found));
  };
  if (!starts_with(raw, kMagic)) throw Malformed("QED header: the magic is missing");
  if (header.cluster_size < 4096 || header.cluster_size > (64 << 20) ||
      !std::has_single_bit(header.cluster_size))
    refuse(&Header::cluster_size, "a power of two from 4 KiB to 64 MiB", header.cluster_size);
  if (header.table_size == 0 || header.table_size > 16 || !std::has_single_bit(header.table_size))
    refuse(&Header::table_size, "1, 2, 4, 8 or 16 clusters", header.table_size);
  if (header.l1_table_offset % header.cluster_size != 0 || header.l1_table_offset == 0)
    refuse(&Header::l1_table_offset, "the begin of a cluster", header.l1_table_offset);
  return header;
}

Match recognise_qed(Probe& probe) {
  ByteView head = probe.head(size_on_disk<Header>);
  if (head.size() < size_on_disk<Header> || !starts_with(head, kMagic)) return Match::none;
  std::uint32_t cluster = read_structure<Header>(head.data()).cluster_size;
  return cluster >= 4096 && std::has_single_bit(cluster) ? Match::front : Match::none;
}

ContainerPtr open_qed(const Input& input, OpenContext& context) {
  SourcePtr file = random_access(*input.content, context.spool);
  Header header = read_header(*file);
  if (std::uint64_t unknown = header.features & ~std::uint64_t{backing_file_feature | needs_check_feature |
                                                               backing_is_raw_feature};
      unknown != 0)
    throw Unsupported(fmt::format("QED feature bits {:#x}", unknown));
  DiskImage image;
  image.facts = {{"cluster", fmt::format("{} bytes", header.cluster_size)}};
  if ((header.features & needs_check_feature) != 0)
    image.findings.push_back(
        {Finding::Level::warning, "it is marked as needing a check: it was not closed cleanly"});
  SourcePtr parent;
  if ((header.features & backing_file_feature) != 0) {
    constexpr std::uint32_t kLongestName = 1023;
    Bytes name = read_exactly(*file, header.backing_filename_offset,
                              std::min(header.backing_filename_size, kLongestName), "QED backing file name");
    image.facts.emplace_back("parent", escape(as_text(name)));
    parent = open_parent(input, context, {std::string(as_text(name)), {}}, image.findings);
  }
  image.bytes = std::make_shared<QedSource>(file, header, std::move(parent));
  return make_disk_image(input, std::move(image));
}

}  // namespace

Format qed_format() {
  return {.id = "qed",
          .name = "QED disk image",
          .family = "disk image",
          .specification = "QED image format",
          .reads = "all cluster and table sizes, zero clusters, parents beside it",
          .lacks = "",
          .suffixes = {".qed"},
          .single_stream = true,
          .recognise = recognise_qed,
          .open = open_qed,
          .records = {record_at<Header>("header", 0)}};
}

}  // namespace operculum
