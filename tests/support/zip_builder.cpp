#include "support/zip_builder.h"

#include "base/checksum.h"
#include "cipher/zip_aes.h"
#include "cipher/zip_traditional.h"
#include "codec/codec.h"

namespace operculum::test {
namespace {

constexpr std::uint16_t kEncrypted = 1, kDescriptor = 8, kUtf8 = 1 << 11;

/// `salt` takes the place of random bytes, so that the output is the same each time.
Bytes encrypt_traditional(const Bytes& plain, const std::string& password, std::uint32_t salt, Byte check) {
  ZipTraditional cipher(password);
  Bytes out;
  for (int i = 0; i < 11; ++i)
    out.push_back(cipher.encrypt(static_cast<Byte>((salt >> (i % 24)) + static_cast<std::uint32_t>(i) * 37)));
  out.push_back(cipher.encrypt(check));
  for (Byte b : plain) out.push_back(cipher.encrypt(b));
  return out;
}

Bytes encrypt_aes(const Bytes& plain, const std::string& password, int strength) {
  ZipAes aes{strength};
  Bytes salt(aes.salt_size());
  for (std::size_t i = 0; i < salt.size(); ++i) salt[i] = static_cast<Byte>(i * 11 + 3);
  ZipAes::Keys keys = aes.derive(password, salt);
  ZipAes::Encryption encryption(keys);
  Bytes stored = plain;
  encryption.apply(stored);
  return ByteWriter().bytes(salt).bytes(keys.verifier).bytes(stored).bytes(encryption.code()).take();
}

}  // namespace

ZipBuilder& ZipBuilder::add(ZipItem item) {
  items_.push_back(std::move(item));
  return *this;
}

ZipBuilder& ZipBuilder::add(const std::string& name, std::string_view text) {
  return add(ZipItem{.name = name, .data = to_bytes(text)});
}

ZipBuilder& ZipBuilder::stored(const std::string& name, Bytes data) {
  return add(ZipItem{.name = name, .data = std::move(data), .codec = "stored", .method = 0});
}

ZipBuilder& ZipBuilder::folder(const std::string& name) {
  return add(ZipItem{.name = name + "/", .data = {}, .codec = "stored", .method = 0, .unix_mode = 040755});
}

ZipBuilder& ZipBuilder::link(const std::string& name, const std::string& target) {
  return add(
      ZipItem{.name = name, .data = to_bytes(target), .codec = "stored", .method = 0, .unix_mode = 0120777});
}

ZipBuilder& ZipBuilder::comment(std::string text) {
  comment_ = std::move(text);
  return *this;
}

ZipBuilder& ZipBuilder::zip64() {
  zip64_ = true;
  return *this;
}

ZipBuilder& ZipBuilder::prefix(Bytes stub) {
  prefix_ = std::move(stub);
  return *this;
}

ZipBuilder::Stored ZipBuilder::pack(const ZipItem& item) {
  Stored out{{}, item.crc.value_or(crc32(0, item.data)), item.method, item.more_flags, item.extra};
  if (item.stored) {
    out.bytes = *item.stored;
  } else {
    out.bytes = item.codec == "stored" ? item.data : encode(item.codec, item.data);
    if (item.method == 14) {  // APPNOTE 5.8.8: version and property size in front
      out.bytes = ByteWriter().u16(0x0515).u16(5).bytes(out.bytes).take();
    }
  }
  if (item.utf8) out.flags |= kUtf8;
  if (item.descriptor) out.flags |= kDescriptor;
  if (item.password.empty()) return out;
  out.flags |= kEncrypted;
  if (item.aes_strength == 0) {
    Byte check = item.descriptor ? static_cast<Byte>(item.time >> 8) : static_cast<Byte>(out.crc >> 24);
    out.bytes = encrypt_traditional(out.bytes, item.password, crc32(0, as_bytes(item.name)), check);
    return out;
  }
  out.bytes = encrypt_aes(out.bytes, item.password, item.aes_strength);
  Bytes field = ByteWriter()
                    .u16(0x9901)
                    .u16(7)
                    .u16(static_cast<std::uint64_t>(item.aes_version))
                    .text("AE")
                    .u8(static_cast<std::uint64_t>(item.aes_strength))
                    .u16(item.method)
                    .take();
  out.extra.insert(out.extra.end(), field.begin(), field.end());
  out.method = 99;
  if (item.aes_version == 2) out.crc = 0;
  return out;
}

void ZipBuilder::write_entries(ByteWriter& out, std::vector<std::uint64_t>& offsets) const {
  out.bytes(prefix_);
  for (const ZipItem& item : items_) {
    Stored packed = pack(item);
    offsets.push_back(out.size() - prefix_.size());
    const std::string& name = item.local_name.empty() ? item.name : item.local_name;
    std::uint64_t sizes[] = {packed.bytes.size(), item.data.size()};
    Bytes extra = packed.extra;
    if (zip64_) {
      Bytes field = ByteWriter().u16(1).u16(16).u64(sizes[1]).u64(sizes[0]).take();
      extra.insert(extra.end(), field.begin(), field.end());
    }
    bool later = item.descriptor;
    auto size32 = [&](std::uint64_t size) -> std::uint64_t { return zip64_ ? 0xffffffff : later ? 0 : size; };
    out.u32(0x04034b50)
        .u16(zip64_ ? 45 : 20)
        .u16(packed.flags)
        .u16(packed.method)
        .u16(item.time)
        .u16(item.date);
    out.u32(later ? 0 : packed.crc)
        .u32(size32(sizes[0]))
        .u32(size32(sizes[1]))
        .u16(name.size())
        .u16(extra.size());
    out.text(name).bytes(extra).bytes(packed.bytes);
    if (later) out.u32(0x08074b50).u32(packed.crc).u32(sizes[0]).u32(sizes[1]);
  }
}

Bytes ZipBuilder::build_without_directory() const {
  ByteWriter out;
  std::vector<std::uint64_t> offsets;
  write_entries(out, offsets);
  return out.take();
}

Bytes ZipBuilder::build() const {
  ByteWriter out;
  std::vector<std::uint64_t> offsets;
  write_entries(out, offsets);
  std::uint64_t start = out.size() - prefix_.size();
  for (std::size_t i = 0; i < items_.size(); ++i) {
    const ZipItem& item = items_[i];
    Stored packed = pack(item);
    Bytes extra = packed.extra;
    if (zip64_) {
      Bytes field =
          ByteWriter().u16(1).u16(24).u64(item.data.size()).u64(packed.bytes.size()).u64(offsets[i]).take();
      extra.insert(extra.end(), field.begin(), field.end());
    }
    auto size32 = [&](std::uint64_t size) -> std::uint64_t { return zip64_ ? 0xffffffff : size; };
    out.u32(0x02014b50)
        .u16(item.made_by | 30)
        .u16(zip64_ ? 45 : 20)
        .u16(packed.flags)
        .u16(packed.method)
        .u16(item.time)
        .u16(item.date);
    out.u32(packed.crc).u32(size32(packed.bytes.size())).u32(size32(item.data.size()));
    out.u16(item.name.size())
        .u16(extra.size())
        .u16(item.comment.size())
        .u16(0)
        .u16(0)
        .u32(std::uint64_t{item.unix_mode} << 16);
    out.u32(size32(offsets[i])).text(item.name).bytes(extra).text(item.comment);
  }
  std::uint64_t size = out.size() - prefix_.size() - start, end = out.size() - prefix_.size();
  if (zip64_) {
    out.u32(0x06064b50)
        .u64(44)
        .u16(45)
        .u16(45)
        .u32(0)
        .u32(0)
        .u64(items_.size())
        .u64(items_.size())
        .u64(size)
        .u64(start);
    out.u32(0x07064b50).u32(0).u64(end).u32(1);
  }
  out.u32(0x06054b50).u16(0).u16(0);
  if (zip64_) {
    out.u16(0xffff).u16(0xffff).u32(0xffffffff).u32(0xffffffff);
  } else {
    out.u16(items_.size()).u16(items_.size()).u32(size).u32(start);
  }
  out.u16(comment_.size()).text(comment_);
  return out.take();
}

}  // namespace operculum::test
