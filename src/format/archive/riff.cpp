// Chunks of the RIFF and IFF families (Electronic Arts, "EA IFF 85", 1985; "Multimedia Programming Interface
// and Data Specifications 1.0", 1991; ITU-R BS.2088 for 64-bit sizes): a four-letter name, a size, the data,
// filled up to an even number; lists (RIFF, RIFX, RF64, BW64, FORM, LIST, CAT, PROP) hold chunks again behind
// a second name. They are sounds and pictures to most people: their chunks are shown only when the view
// "chunks" is asked for.
#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "base/depth_guard.h"
#include "base/error.h"
#include "base/structure.h"
#include "container/record_fields.h"
#include "format/archive/formats.h"
#include "format/firmware/firmware_parts.h"

namespace operculum {
namespace {

constexpr int kDeepest = 32;
constexpr std::size_t kMostChunks = 200'000;
constexpr std::uint32_t kIn64 = 0xFFFFFFFF;  ///< the size is in the ds64 chunk

/// In front of a chunk; the order is that of the whole.
struct ChunkHeader {
  std::array<Byte, 4> ckID{};
  std::uint32_t ckSize = 0;
  static constexpr auto layout =
      little_endian(field("ckID", &ChunkHeader::ckID), field("ckSize", &ChunkHeader::ckSize));
};
constexpr std::size_t kChunkHeader = size_on_disk<ChunkHeader>;
constexpr std::size_t kFormHeader = kChunkHeader + 4;  // with the form's kind

/// The chunk ds64, as far as it is read (BS.2088, section 5).
struct LongSizes {
  std::uint64_t riffSize = 0, dataSize = 0;
  static constexpr auto layout =
      little_endian(field("riffSize", &LongSizes::riffSize), field("dataSize", &LongSizes::dataSize));
};

bool is_in(std::string_view name, std::initializer_list<std::string_view> names) {
  return std::find(names.begin(), names.end(), name) != names.end();
}

bool is_riff(std::string_view name) {
  return is_in(name, {"RIFF", "RIFX", "RF64", "BW64"});
}

bool is_list(std::string_view name, bool riff) {
  return riff ? is_riff(name) || name == "LIST" : is_in(name, {"FORM", "LIST", "CAT ", "PROP"});
}

bool is_name(ByteView raw) {
  return std::all_of(raw.begin(), raw.end(), [](Byte b) { return b >= 0x20 && b < 0x7F; });
}

class Reader {
 public:
  Reader(SourcePtr bytes, Firmware& out) : bytes_(std::move(bytes)), out_(out) {
    Bytes head = read_exactly(*bytes_, 0, kFormHeader, "RIFF header");
    std::string_view name = as_text(head).substr(0, 4);
    riff_ = is_riff(name);
    big_ = !riff_ || name == "RIFX";
    if (name == "RF64" || name == "BW64") read_sizes();
  }

  void read() { chunks(0, bytes_->size(), ""); }

 private:
  /// The length of a chunk, out of its header.
  std::uint64_t length(const Bytes& head) const {
    return read_structure<ChunkHeader>(head.data(), big_ ? std::endian::big : std::endian::little).ckSize;
  }

  /// The chunk ds64 comes first, and has the sizes of the whole and of the data.
  void read_sizes() {
    constexpr std::size_t head_size = size_on_disk<ChunkHeader>;
    Bytes raw = read_exactly(*bytes_, kFormHeader, head_size + size_on_disk<LongSizes>, "ds64 chunk");
    if (as_text(raw).substr(0, 4) != "ds64") throw Malformed("RF64: its chunk ds64 is missing");
    auto sizes = read_structure<LongSizes>(raw.data() + head_size);
    whole_ = sizes.riffSize;
    data_ = sizes.dataSize;
  }

  void chunks(std::uint64_t at, std::uint64_t end, const std::string& folder) {
    DepthGuard guard(depth_, kDeepest,
                     [] { throw LimitExceeded("chunks: more than 32 lists within each other"); });
    while (at + kChunkHeader <= end) {
      Bytes head = read_exactly(*bytes_, at, kChunkHeader, "chunk");
      std::string_view name = as_text(head).substr(0, 4);
      if (!is_name(ByteView(head).first(4)) || ++count_ > kMostChunks) {
        out_.fault(fmt::format(
            "at offset {}: expected the name of a chunk, found other bytes; the rest is not listed", at));
        return;
      }
      std::uint64_t size = length(head);
      if (size == kIn64 && whole_) size = name == "data" ? data_ : *whole_;
      std::uint64_t data_at = at + kChunkHeader, next = data_at + size + size % 2;
      if (data_at + size > end) {
        out_.fault(fmt::format("the chunk \"{}\" at offset {} states {} bytes, {} are left: it is cut short",
                               name, at, size, end - data_at));
        size = end - data_at;
        next = end;
      }
      std::string path = folder + part_name(name, "chunk");
      if (is_list(name, riff_) && size >= 4) {
        Bytes kind = read_exactly(*bytes_, data_at, 4, "list");
        path += "-" + part_name(as_text(kind), "list");
        if (std::size_t same = lists_[path]++; same > 0) path += fmt::format(".{}", same + 1);
        out_.parts.push_back(
            {.path = path, .type = "list", .at = at, .size = next - at, .kind = EntryKind::folder});
        chunks(at + kFormHeader, data_at + size, path + "/");
      } else {
        out_.parts.push_back({.path = path, .type = "chunk", .at = data_at, .size = size});
      }
      at = next;
    }
  }

  SourcePtr bytes_;
  Firmware& out_;
  bool riff_ = false, big_ = false;
  std::optional<std::uint64_t> whole_;
  std::uint64_t data_ = 0;
  int depth_ = 0;
  std::size_t count_ = 0;
  std::map<std::string, std::size_t> lists_;
};

Match recognise_chunks(Probe& probe) {
  ByteView head = probe.head(12);
  if (head.size() < 12) return Match::none;
  std::string_view name = as_text(head).substr(0, 4);
  return (is_riff(name) || is_in(name, {"FORM", "LIST", "CAT "})) && is_name(head.subspan(8, 4))
             ? Match::front
             : Match::none;
}

ContainerPtr open_chunks(const Input& input, OpenContext& context) {
  SourcePtr bytes = random_access(*input.content, context.spool);
  Firmware out;
  Reader(bytes, out).read();
  return make_firmware(std::move(bytes), std::move(out));
}

}  // namespace

Format riff_format() {
  return {.id = "riff",
          .name = "file of chunks (RIFF, IFF)",
          .family = "archive",
          .specification =
              "EA IFF 85; Multimedia Programming Interface and Data Specifications 1.0; ITU-R BS.2088",
          .reads =
              "RIFF, RIFX, RF64, BW64, FORM, LIST, CAT: chunks as files, lists as folders; only with the "
              "view \"chunks\"",
          .lacks = "",
          .suffixes = {},
          .views = {kChunksView},
          .recognise = [](Probe&) { return Match::none; },
          .open = open_chunks,
          .records = {record_at<ChunkHeader>("first chunk", 0)}};
}

Format asked_riff_format() {
  Format format = riff_format();
  format.recognise = recognise_chunks;
  return format;
}

}  // namespace operculum
