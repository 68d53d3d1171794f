#include "format/filesystem/ntfs_overlay.h"

#include <fmt/format.h>

#include "codec/lzx.h"
#include "codec/xpress.h"
#include "format/filesystem/reparse.h"
#include "io/chunk_table.h"

namespace operculum::ntfs {
namespace {

constexpr std::uint32_t kByFile = 2;
constexpr unsigned kLzxWindowBits = 15;

struct Algorithm {
  std::string_view method;
  std::uint32_t chunk;
};
constexpr Algorithm kAlgorithms[] = {{"xpress", 4096}, {"lzx", 32768}, {"xpress", 8192}, {"xpress", 16384}};

const Algorithm* algorithm_of(const Overlay& overlay) {
  bool known = overlay.provider == kByFile && overlay.algorithm < std::size(kAlgorithms);
  return known ? &kAlgorithms[overlay.algorithm] : nullptr;
}

}  // namespace

std::optional<Overlay> overlay_of(const Record& record) {
  const Attribute* reparse = record.find(reparse_point_attribute);
  if (reparse == nullptr || reparse->value.size() < size_on_disk<OverlayPoint>) return std::nullopt;
  const Byte* raw = reparse->value.data();
  auto point = read_structure<OverlayPoint>(raw);
  if (point.tag != reparse_overlay) return std::nullopt;
  bool of_file = reparse->value.size() >= size_on_disk<OverlayOfFile>;
  return Overlay{point.provider, of_file ? read_structure<OverlayOfFile>(raw).algorithm : UINT32_MAX};
}

std::string_view method_of(const Overlay& overlay) {
  const Algorithm* algorithm = algorithm_of(overlay);
  return algorithm == nullptr ? "overlay" : algorithm->method;
}

ContentPtr overlay_content(const Volume& volume, const Record& record, const Overlay& overlay) {
  const Algorithm* algorithm = algorithm_of(overlay);
  if (algorithm == nullptr)
    throw Unsupported(
        fmt::format("files that the system's overlay takes from elsewhere (provider {})", overlay.provider));
  const Attribute *packed = record.find(data_attribute, kOverlayStream), *data = record.find(data_attribute);
  if (packed == nullptr || data == nullptr)
    throw Malformed(
        fmt::format("NTFS file {} is packed, but its stream {} is missing", record.number, kOverlayStream));
  auto decode = [lzx = algorithm->method == "lzx"](ByteView bytes, ByteSpan out) {
    lzx ? decode_lzx_chunk(bytes, out, kLzxWindowBits) : decode_xpress(bytes, out);
  };
  return make_chunk_content(volume.data(*packed), {0, packed->size, data->size, algorithm->chunk}, decode);
}

}  // namespace operculum::ntfs
