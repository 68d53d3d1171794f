#include "format/flash/jffs2_nodes.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/checksum.h"
#include "base/error.h"
#include "base/structure.h"
#include "codec/block.h"

namespace operculum::jffs2 {
namespace {

struct Header {
  std::uint16_t magic = 0, nodetype = 0;
  std::uint32_t totlen = 0, hdr_crc = 0;
  static constexpr auto layout =
      little_endian(field("magic", &Header::magic), field("nodetype", &Header::nodetype),
                    field("totlen", &Header::totlen), field("hdr_crc", &Header::hdr_crc));
};
struct NameNode {
  std::uint32_t pino = 0, version = 0, ino = 0, mctime = 0;
  std::uint8_t nsize = 0, type = 0;
  std::array<Byte, 2> unused{};
  std::uint32_t node_crc = 0, name_crc = 0;
  static constexpr auto layout = little_endian(
      field("pino", &NameNode::pino), field("version", &NameNode::version), field("ino", &NameNode::ino),
      field("mctime", &NameNode::mctime), field("nsize", &NameNode::nsize), field("type", &NameNode::type),
      field("unused", &NameNode::unused), field("node_crc", &NameNode::node_crc),
      field("name_crc", &NameNode::name_crc));
};
struct DataNode {
  std::uint32_t ino = 0, version = 0, mode = 0;
  std::uint16_t uid = 0, gid = 0;
  std::uint32_t isize = 0, atime = 0, mtime = 0, ctime = 0, offset = 0, csize = 0, dsize = 0;
  std::uint8_t compr = 0, usercompr = 0;
  std::uint16_t flags = 0;
  std::uint32_t data_crc = 0, node_crc = 0;
  static constexpr auto layout = little_endian(
      field("ino", &DataNode::ino), field("version", &DataNode::version), field("mode", &DataNode::mode),
      field("uid", &DataNode::uid), field("gid", &DataNode::gid), field("isize", &DataNode::isize),
      field("atime", &DataNode::atime), field("mtime", &DataNode::mtime), field("ctime", &DataNode::ctime),
      field("offset", &DataNode::offset), field("csize", &DataNode::csize), field("dsize", &DataNode::dsize),
      field("compr", &DataNode::compr), field("usercompr", &DataNode::usercompr),
      field("flags", &DataNode::flags), field("data_crc", &DataNode::data_crc),
      field("node_crc", &DataNode::node_crc));
};

constexpr std::uint16_t kMagic = 0x1985, kNameType = 0xE001, kDataType = 0xE002;
constexpr std::uint16_t kAccurate = 0x2000, kIncompatible = 0xC000;
constexpr std::uint16_t kKnownKinds[] = {kNameType, kDataType, 0x2003, 0x2004, 0x2006, 0xE008, 0xE009};
constexpr std::size_t kHeader = size_on_disk<Header>;
constexpr std::size_t kNameHead = kHeader + size_on_disk<NameNode>,
                      kDataHead = kHeader + size_on_disk<DataNode>;
constexpr std::size_t kBlock = 1 << 20;
constexpr std::uint32_t kLargestPiece = 1 << 20;
constexpr std::uint64_t kMostNodes = 8 << 20;

template <typename S>
S read_in(std::endian order, const Byte* bytes) {
  return order == std::endian::little ? read_structure<S, std::endian::little>(bytes)
                                      : read_structure<S, std::endian::big>(bytes);
}

/// The bytes of a node as they were when its sums were made: later a bit of its kind is cleared when it is
/// replaced.
Bytes as_summed(ByteView bytes, std::endian order) {
  Bytes out(bytes.begin(), bytes.end());
  out[order == std::endian::little ? 3 : 2] |= kAccurate >> 8;
  return out;
}

class Finder {
 public:
  Finder(const Source& image, std::endian order) : image_(image), order_(order) {}

  Nodes find() {
    for (std::uint64_t at = 0; at < image_.size();) {
      if (std::uint64_t hole = image_.hole_at(at) / 4 * 4; hole > 0) {
        at += hole;
        continue;
      }
      Bytes block = read_up_to(image_, at, kBlock + kLargestPiece);
      std::size_t most = std::min(block.size(), kBlock), i = 0;
      while (i + kHeader <= block.size() && i < most)
        i += std::max<std::size_t>(node(ByteView(block).subspan(i), at + i), 4);
      if (i == 0) break;
      at += i;
    }
    sort();
    return std::move(out_);
  }

 private:
  /// Looks at what may be a node; returns how many bytes to go on by, 0 for no node.
  std::size_t node(ByteView bytes, std::uint64_t at) {
    std::uint16_t first = static_cast<std::uint16_t>(
        order_ == std::endian::little ? bytes[0] | bytes[1] << 8 : bytes[1] | bytes[0] << 8);
    if (first != kMagic) return 0;
    auto header = read_in<Header>(order_, bytes.data());
    if (!sum_fits(node_sum(as_summed(bytes.first(8), order_)), header.hdr_crc) || header.totlen < kHeader) {
      ++out_.damaged;
      return 0;
    }
    std::uint16_t kind = header.nodetype | kAccurate;
    if (++out_.count > kMostNodes) throw LimitExceeded("JFFS2: more than 8 million nodes");
    std::size_t length = (std::size_t{header.totlen} + 3) / 4 * 4;
    if (kind == kNameType) name(bytes, header.totlen);
    if (kind == kDataType) piece(bytes, header.totlen, at);
    bool known = std::find(std::begin(kKnownKinds), std::end(kKnownKinds), kind) != std::end(kKnownKinds);
    if (!known && (kind & kIncompatible) == kIncompatible) out_.unknown_kinds = true;
    return std::min<std::size_t>(length, kBlock);
  }

  void name(ByteView bytes, std::size_t length) {
    if (bytes.size() < length || length < kNameHead) return damaged();
    auto node = read_in<NameNode>(order_, bytes.data() + kHeader);
    if (kNameHead + node.nsize > length) return damaged();
    ByteView text = bytes.subspan(kNameHead, node.nsize);
    if (!sum_fits(node_sum(as_summed(bytes.first(kNameHead - 8), order_)), node.node_crc) ||
        !sum_fits(node_sum(text), node.name_crc))
      return damaged();
    std::string name(as_text(text));
    out_.names[{node.pino, name}].push_back({node.pino, node.version, node.ino, node.type, name});
  }

  void piece(ByteView bytes, std::size_t length, std::uint64_t at) {
    if (bytes.size() < kDataHead || length < kDataHead) return damaged();
    auto node = read_in<DataNode>(order_, bytes.data() + kHeader);
    bool fits = node_sum(as_summed(bytes.first(kDataHead - 8), order_)) == node.node_crc &&
                kDataHead + node.csize <= length && node.dsize <= kLargestPiece;
    if (!fits) return damaged();
    out_.pieces[node.ino].push_back({at + kDataHead, node.version, node.mode, node.isize, node.uid, node.gid,
                                     node.mtime, node.offset, node.csize, node.dsize, node.data_crc,
                                     node.compr});
  }

  void damaged() { ++out_.damaged; }

  void sort() {
    auto by_version = [](const auto& a, const auto& b) { return a.version < b.version; };
    for (auto& [key, list] : out_.names) std::stable_sort(list.begin(), list.end(), by_version);
    for (auto& [key, list] : out_.pieces) std::stable_sort(list.begin(), list.end(), by_version);
  }

  const Source& image_;
  std::endian order_;
  Nodes out_;
};

/// "rtime": each byte with how many bytes to repeat from where that byte was seen last.
Bytes unpack_rtime(ByteView packed, std::size_t size) {
  std::array<std::size_t, 256> last{};
  Bytes out;
  out.reserve(size);
  std::size_t at = 0;
  while (out.size() < size) {
    if (packed.size() - at < 2) throw Malformed("JFFS2 rtime data: it ends too early");
    Byte value = packed[at], repeat = packed[at + 1];
    at += 2;
    out.push_back(value);
    std::size_t from = last[value];
    last[value] = out.size();
    for (unsigned i = 0; i < repeat && out.size() < size; ++i) {
      Byte copied = out[from++];
      out.push_back(copied);
    }
  }
  return out;
}

Bytes unpack_block(BlockCodec codec, ByteView packed, std::size_t size) {
  Bytes out(size);
  if (decode_block(codec, packed, out) != size)
    throw Malformed("JFFS2: a piece unpacks to fewer bytes than it states");
  return out;
}

/// Without a header: the properties are fixed (no literal or position bits, a window of 8 KiB).
Bytes unpack_lzma(ByteView packed, std::size_t size) {
  Bytes whole = {0, 0, 0x20, 0, 0};
  for (int i = 0; i < 8; ++i) whole.push_back(static_cast<Byte>(std::uint64_t{size} >> (8 * i)));
  whole.insert(whole.end(), packed.begin(), packed.end());
  return unpack_block(BlockCodec::lzma_alone, whole, size);
}

}  // namespace

std::optional<std::endian> order_of(ByteView bytes) {
  if (bytes.size() < kHeader) return std::nullopt;
  for (std::endian order : {std::endian::little, std::endian::big}) {
    auto header = read_in<Header>(order, bytes.data());
    if (header.magic != kMagic) continue;
    if (node_sum(as_summed(bytes.first(8), order)) == header.hdr_crc) return order;
  }
  return std::nullopt;
}

std::uint32_t node_sum(ByteView bytes) {
  return crc32_plain(0, bytes);
}

Nodes find_nodes(const Source& image, std::endian order) {
  return Finder(image, order).find();
}

Bytes unpack(const Source& image, const Piece& piece) {
  if (piece.packing == 1) return Bytes(piece.unpacked);
  Bytes packed = read_exactly(image, piece.at, piece.stored, "JFFS2 data");
  switch (piece.packing) {
    case 0:
      if (packed.size() < piece.unpacked)
        throw Malformed(fmt::format("JFFS2 data at offset {}: {} bytes are stored, {} are stated", piece.at,
                                    packed.size(), piece.unpacked));
      packed.resize(piece.unpacked);
      return packed;
    case 2:
      return unpack_rtime(packed, piece.unpacked);
    case 6:
      return unpack_block(BlockCodec::zlib, packed, piece.unpacked);
    case 7:
      return unpack_block(BlockCodec::lzo, packed, piece.unpacked);
    case 8:
      return unpack_lzma(packed, piece.unpacked);
    default:
      throw Unsupported(fmt::format("JFFS2 data packed by {}", packing_name(piece.packing)));
  }
}

bool fits(const Source& image, const Piece& piece) {
  return piece.stored == 0 || node_sum(read_up_to(image, piece.at, piece.stored)) == piece.data_sum;
}

std::string_view packing_name(std::uint8_t packing) {
  constexpr std::string_view kNames[] = {"stored",   "zeros", "rtime", "rubinmips", "copy",
                                         "dynrubin", "zlib",  "lzo",   "lzma"};
  return packing < std::size(kNames) ? kNames[packing] : "an unknown method";
}

}  // namespace operculum::jffs2
