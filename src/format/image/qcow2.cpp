// QCOW2, versions 2 and 3, after its published format description (interop/qcow2).
#include <fmt/format.h>

#include <algorithm>

#include "base/checked.h"
#include "base/text.h"
#include "codec/block.h"
#include "codec/codec.h"
#include "container/record_fields.h"
#include "format/image/disk_image.h"
#include "format/image/formats.h"
#include "format/image/image_blocks.h"
#include "format/image/qcow2_records.h"
#include "format/image/qcow2_rewrite.h"
#include "format/volume/luks.h"
#include "io/cached_source.h"
#include "io/locked_source.h"
#include "io/mapped_source.h"

namespace operculum {
namespace {

using namespace qcow2;

/// What the header and its extensions say of the disk.
struct Header {
  std::uint32_t version = 0, cluster_bits = 0, encryption = 0, l1_count = 0, snapshots = 0;
  std::uint64_t size = 0, l1_at = 0, snapshots_at = 0, incompatible = 0, luks_at = 0, luks_size = 0;
  std::uint8_t compression = 0;
  std::string backing, data_file;
};

void read_extensions(Cursor raw, Header& header) {
  while (raw.left() >= size_on_disk<ExtensionHead>) {
    auto extension = read_structure<ExtensionHead>(raw);
    if (extension.type == 0 || extension.length > raw.left()) return;
    Cursor data(raw.take(extension.length), "QCOW2 header extension");
    if (extension.type == data_file_name) header.data_file = as_text(data.take(extension.length));
    if (extension.type == encryption_header) {
      auto pointer = read_structure<EncryptionPointer>(data);
      header.luks_at = pointer.offset;
      header.luks_size = pointer.length;
    }
    raw.skip(std::min<std::size_t>((8 - extension.length % 8) % 8, raw.left()));
  }
}

Header read_header(const Source& file) {
  constexpr std::size_t kReach = 4096, kLongestName = 1023;
  Bytes bytes = read_up_to(file, 0, kReach);
  Cursor front(bytes, "QCOW2 header");
  auto raw = read_structure<HeaderRecord>(front);
  if (raw.magic != kMagic) throw Malformed("QCOW2 header: the magic is missing");
  if (raw.version != 2 && raw.version != 3) throw Unsupported(fmt::format("QCOW version {}", raw.version));
  if (raw.cluster_bits < 9 || raw.cluster_bits > 21)
    throw Malformed(fmt::format("QCOW2 header: clusters of 2^{} bytes are not possible", raw.cluster_bits));
  Header h{.version = raw.version,
           .cluster_bits = raw.cluster_bits,
           .encryption = raw.crypt_method,
           .l1_count = raw.l1_size,
           .snapshots = raw.nb_snapshots,
           .size = raw.size,
           .l1_at = raw.l1_table_offset,
           .snapshots_at = raw.snapshots_offset};
  std::size_t extensions_at = kHeaderSize;
  if (raw.version == 3) {
    auto more = read_structure<MoreRecord>(front);
    h.incompatible = more.incompatible_features;
    extensions_at = more.header_length;
    bool compression = (h.incompatible & feature_compression) != 0 && more.header_length > kCompressionAt;
    if (compression) h.compression = front.u8();
  }
  if (raw.backing_file_offset != 0) {
    Bytes name =
        read_exactly(file, raw.backing_file_offset,
                     std::min<std::size_t>(raw.backing_file_size, kLongestName), "QCOW2 backing file name");
    h.backing = as_text(name);
  }
  if (extensions_at < bytes.size())
    read_extensions(Cursor(ByteView(bytes).subspan(extensions_at), "QCOW2 header extension"), h);
  return h;
}

class QcowSource final : public MappedSource {
 public:
  /// `by_offset` decrypts clusters by where they lie in the disk; null: what `data` gives is plain.
  QcowSource(SourcePtr file, SourcePtr data, const Header& header, SourcePtr parent,
             std::shared_ptr<const DiskCipher> by_offset)
      : MappedSource(std::move(data), header.size, std::move(parent)),
        tables_(make_cached(file, 64 << 10)),
        file_(std::move(file)),
        by_offset_(std::move(by_offset)),
        header_(header),
        cluster_(std::uint64_t{1} << header.cluster_bits),
        entry_bytes_((header.incompatible & feature_extended_tables) != 0 ? 16 : 8) {}

 protected:
  MappedRun locate(std::uint64_t offset) const override {
    std::uint64_t per_table = cluster_ / entry_bytes_, index = offset / cluster_, within = offset % cluster_;
    std::uint64_t l1 = index / per_table, left = cluster_ - within;
    if (l1 >= header_.l1_count) return {MappedRun::From::parent, left};
    std::uint64_t table = word(checked_add(header_.l1_at, l1 * 8, "the first table")) & kPlaceMask;
    if (table == 0)
      return {MappedRun::From::parent, per_table * cluster_ - (index % per_table) * cluster_ - within};
    std::uint64_t at = table + (index % per_table) * entry_bytes_, entry = word(at);
    if ((entry & kPacked) != 0) return {MappedRun::From::packed, left, entry & (kPacked - 1), within};
    std::uint64_t place = entry & kPlaceMask;
    if (entry_bytes_ == 16) return subcluster(word(at + 8), place, within);
    if ((entry & kZeros) != 0 && header_.version >= 3) return {MappedRun::From::zeros, left};
    if (place == 0) return {MappedRun::From::parent, left};
    if (by_offset_) return {MappedRun::From::packed, left, kEncrypted | index, within};
    return {MappedRun::From::stored, left, place + within};
  }

  Bytes unpack(std::uint64_t entry) const override {
    if ((entry & kEncrypted) != 0) return decrypt(entry & ~kEncrypted);
    unsigned offset_bits = 62 - (header_.cluster_bits - 8);
    std::uint64_t at = entry & ((std::uint64_t{1} << offset_bits) - 1), sectors = (entry >> offset_bits) + 1;
    Bytes packed = read_up_to(*file_, at, sectors * 512 - at % 512);
    Bytes out(static_cast<std::size_t>(cluster_));
    // what follows the packed bytes in their last sector is not part of them
    StreamPtr stream = open_decoder(header_.compression == 1 ? "zstd" : "deflate",
                                    make_source_stream(make_memory_source(std::move(packed))));
    std::size_t got = read_fully(*stream, out);
    if (got < out.size())
      throw Malformed(
          fmt::format("QCOW2 cluster at offset {}: {} bytes come out, {} are expected", at, got, out.size()));
    return out;
  }

 private:
  static constexpr std::uint64_t kEncrypted = std::uint64_t{1} << 63;

  /// A cluster that is stored encrypted, by its number in the disk.
  Bytes decrypt(std::uint64_t index) const {
    std::uint64_t per_table = cluster_ / entry_bytes_;
    std::uint64_t table = word(header_.l1_at + index / per_table * 8) & kPlaceMask;
    std::uint64_t place = word(table + index % per_table * entry_bytes_) & kPlaceMask;
    Bytes out = read_exactly(whole(), place, cluster_, "QCOW2 cluster");
    by_offset_->decrypt(index * (cluster_ / 512), out);
    return out;
  }

  /// Each cluster in 32 parts, with a bit each for "is there" and "is zero".
  MappedRun subcluster(std::uint64_t bitmap, std::uint64_t place, std::uint64_t within) const {
    std::uint64_t part = cluster_ / 32, index = within / part, left = part - within % part;
    if ((bitmap >> (32 + index) & 1) != 0) return {MappedRun::From::zeros, left};
    if ((bitmap >> index & 1) != 0 && place != 0) return {MappedRun::From::stored, left, place + within};
    return {MappedRun::From::parent, left};
  }

  std::uint64_t word(std::uint64_t at) const {
    return load_number(read_exactly(*tables_, at, 8, "QCOW2 table").data(), 8, std::endian::big);
  }

  SourcePtr tables_, file_;
  std::shared_ptr<const DiskCipher> by_offset_;
  Header header_;
  std::uint64_t cluster_, entry_bytes_;
};

/// The names of the snapshots, with the time they were made.
std::vector<std::string> read_snapshots(const Source& file, const Header& header) {
  std::vector<std::string> out;
  std::uint64_t at = header.snapshots_at;
  for (std::uint32_t i = 0; i < std::min<std::uint32_t>(header.snapshots, 1000); ++i) {
    constexpr std::size_t kSize = size_on_disk<SnapshotRecord>;
    auto raw = read_structure<SnapshotRecord>(read_exactly(file, at, kSize, "QCOW2 snapshot").data());
    std::uint64_t texts_at = at + kSize + raw.extra_data_size;
    Bytes text = read_exactly(file, texts_at, std::size_t{raw.id_size} + raw.name_size, "QCOW2 snapshot");
    out.push_back(
        fmt::format("{} ({})", as_text(text).substr(raw.id_size), to_text(from_unix(raw.date_sec))));
    at = (texts_at + text.size() + 7) / 8 * 8;
  }
  return out;
}

constexpr std::size_t kSector = 512;

/// What an encrypted image shows once a key is there. With LUKS clusters are encrypted by where they lie in
/// the file, and the header is a part of it; in the older way by where they lie in the disk, and the
/// passphrase itself, filled up with zeros, is the key: nothing tells whether it is right.
SourcePtr unlock_image(const SourcePtr& file, const SourcePtr& data, const Header& header,
                       const SourcePtr& parent, KeyRing keys, const std::string& name) {
  if (header.encryption == crypt_aes) {
    Key found = keys.find(name, [](const std::string&) { return KeyRing::Fit::perhaps; });
    Secret key(16);
    std::copy_n(found.secret.begin(), std::min(found.secret.size(), key.size()), key.span().begin());
    return std::make_shared<QcowSource>(file, data, header, parent,
                                        make_disk_cipher("aes-cbc-plain64", key.view(), kSector));
  }
  luks::Header own = luks::read_header(*file, header.luks_at);
  Secret key = luks::unlock(own, *file, header.luks_at, keys, name);
  SourcePtr plain = make_decrypted(data, 0, data->size() / kSector * kSector,
                                   make_disk_cipher(own.encryption, key.view(), kSector), kSector, 0);
  return std::make_shared<QcowSource>(file, plain, header, parent, nullptr);
}

/// Tells how an image is encrypted, and asks for a key when its bytes are wanted.
void lock_image(DiskImage& image, const SourcePtr& file, const SourcePtr& data, const Header& header,
                const SourcePtr& parent, const Input& input, const OpenContext& context) {
  if (header.encryption == crypt_luks) {
    if (header.luks_at == 0)
      throw Malformed("QCOW2 header: it is encrypted, but tells no place of a LUKS header");
    luks::Header own = luks::read_header(*file, header.luks_at);
    image.facts.emplace_back("encryption", fmt::format("LUKS{}, {}", own.version, escape(own.encryption)));
  } else {
    image.facts.emplace_back("encryption", "AES-128 in CBC mode");
    image.findings.push_back({Finding::Level::note,
                              "nothing in an image encrypted like this tells whether the password is right"});
  }
  image.bytes =
      make_locked(header.size, [file, data, header, parent, keys = context.keys, name = input.name] {
        return unlock_image(file, data, header, parent, keys, name);
      });
}

Match recognise_qcow2(Probe& probe) {
  ByteView head = probe.head(8);
  return head.size() == 8 && read_field(&HeaderRecord::magic, head.data()) == kMagic ? Match::front
                                                                                     : Match::none;
}

ContainerPtr open_qcow2(const Input& input, OpenContext& context) {
  SourcePtr file = random_access(*input.content, context.spool);
  Header header = read_header(*file);
  if (header.encryption > crypt_luks)
    throw Unsupported(fmt::format("QCOW2 encryption method {}", header.encryption));
  constexpr std::uint64_t kKnown =
      feature_dirty | feature_corrupt | feature_data_file | feature_compression | feature_extended_tables;
  if ((header.incompatible & ~kKnown) != 0)
    throw Unsupported(fmt::format("QCOW2 feature bits {:#x}", header.incompatible & ~kKnown));
  if (header.compression > 1) throw Unsupported(fmt::format("QCOW2 compression type {}", header.compression));
  DiskImage image;
  image.method = header.compression == 1 ? "zstd" : "deflate";
  image.facts = {{"version", std::to_string(header.version)},
                 {"cluster", fmt::format("{} bytes", std::uint64_t{1} << header.cluster_bits)}};
  if ((header.incompatible & feature_corrupt) != 0)
    image.findings.push_back({Finding::Level::warning, "it is marked as corrupt"});
  SourcePtr parent, data = file;
  if (!header.backing.empty()) {
    image.facts.emplace_back("parent", header.backing);
    parent = open_parent(input, context, {header.backing, {}}, image.findings);
  }
  if ((header.incompatible & feature_data_file) != 0)
    data = open_parent(input, context, {header.data_file, {}}, image.findings);
  try {
    for (const std::string& name : read_snapshots(*file, header)) image.facts.emplace_back("snapshot", name);
  } catch (const Malformed& error) {
    image.findings.push_back(
        {Finding::Level::warning, fmt::format("the list of snapshots is damaged: {}", error.what())});
  }
  if (header.encryption != crypt_none) {
    lock_image(image, file, data, header, parent, input, context);
  } else {
    image.bytes = std::make_shared<QcowSource>(file, std::move(data), header, std::move(parent), nullptr);
    image.rewrite = [file, disk = image.bytes](const SourcePtr& changed) {
      return rewrite_qcow2(file, *disk, changed);
    };
  }
  return make_disk_image(input, std::move(image));
}

}  // namespace

Format qcow2_format() {
  return {.id = "qcow2",
          .name = "QCOW2 disk image",
          .family = "disk image",
          .specification = "QCOW2 image format, versions 2 and 3",
          .reads =
              "plain, zlib and zstd clusters, zero clusters, subclusters; images encrypted with LUKS and in "
              "the older way; "
              "external data files; parents "
              "beside it; snapshots are named",
          .lacks = "contents of snapshots",
          .writes = "another disk of the same size, clusters of snapshots untouched; version 3 of a raw disk",
          .suffixes = {".qcow2", ".qcow"},
          .single_stream = true,
          .recognise = recognise_qcow2,
          .open = open_qcow2,
          .pack = pack_qcow2,
          .records = {record_at<HeaderRecord>("header", 0)}};
}

}  // namespace operculum
