#include "support/cab_writer.h"

#include <fmt/format.h>
#include <zlib.h>

#include <algorithm>
#include <stdexcept>

#include "support/byte_writer.h"
#include "support/lzx_writer.h"
#include "support/quantum_writer.h"

namespace operculum::test {
namespace {

constexpr std::size_t kBlock = 32768;
constexpr unsigned kDate = (2026 - 1980) << 9 | 3 << 5 | 1, kTime = 14 << 11 | 5 << 5 | 4;

/// Packed data of a block, and how much it unpacks to; 0 when it goes on in the next cabinet.
struct Data {
  Bytes packed;
  std::size_t size;
};

std::vector<Bytes> pack_mszip(ByteView plain) {
  std::vector<Bytes> blocks;
  for (std::size_t at = 0; at < plain.size(); at += kBlock) {
    ByteView block = plain.subspan(at, std::min(kBlock, plain.size() - at));
    z_stream stream{};
    if (deflateInit2(&stream, 9, Z_DEFLATED, -15, 9, Z_DEFAULT_STRATEGY) != Z_OK)
      throw std::runtime_error("zlib");
    if (at > 0) deflateSetDictionary(&stream, plain.data() + at - kBlock, kBlock);
    Bytes packed(deflateBound(&stream, block.size()) + 2);
    packed[0] = 'C';
    packed[1] = 'K';
    stream.next_in = const_cast<Byte*>(block.data());
    stream.avail_in = static_cast<uInt>(block.size());
    stream.next_out = packed.data() + 2;
    stream.avail_out = static_cast<uInt>(packed.size() - 2);
    deflate(&stream, Z_FINISH);
    packed.resize(2 + stream.total_out);
    deflateEnd(&stream);
    blocks.push_back(std::move(packed));
  }
  return blocks;
}

std::vector<Data> pack(const CabFolder& folder) {
  Bytes plain;
  for (const CabFile& file : folder.files) plain.insert(plain.end(), file.data.begin(), file.data.end());
  std::vector<Bytes> packed;
  switch (folder.method) {
    case CabMethod::stored:
      for (std::size_t at = 0; at < plain.size(); at += kBlock) {
        ByteView block = ByteView(plain).subspan(at, std::min(kBlock, plain.size() - at));
        packed.emplace_back(block.begin(), block.end());
      }
      break;
    case CabMethod::mszip:
      packed = pack_mszip(plain);
      break;
    case CabMethod::quantum:
      packed = pack_quantum(plain, folder.window_bits);
      break;
    case CabMethod::lzx:
      packed = pack_lzx(
          plain, {.window_bits = folder.window_bits,
                  .blocks = folder.plain_blocks ? LzxOptions::Blocks::mixed : LzxOptions::Blocks::aligned,
                  .translate = static_cast<std::int32_t>(plain.size())});
      break;
  }
  std::vector<Data> blocks;
  for (std::size_t i = 0; i < packed.size(); ++i)
    blocks.push_back({std::move(packed[i]), std::min(kBlock, plain.size() - i * kBlock)});
  return blocks;
}

unsigned method_of(const CabFolder& folder) {
  unsigned method = static_cast<unsigned>(folder.method);
  if (folder.method == CabMethod::quantum) return method | 7 << 4 | folder.window_bits << 8;
  return folder.method == CabMethod::lzx ? method | folder.window_bits << 8 : method;
}

/// [MS-CAB] 3.1, byte by byte.
std::uint32_t checksum(ByteView data, std::uint32_t sum) {
  std::size_t at = 0;
  for (; at + 4 <= data.size(); at += 4) {
    for (unsigned b = 0; b < 4; ++b) sum ^= std::uint32_t{data[at + b]} << (8 * b);
  }
  std::uint32_t rest = 0;
  for (; at < data.size(); ++at) rest = rest << 8 | data[at];
  return sum ^ rest;
}

struct File {
  const CabFile* file;
  unsigned folder;
  std::size_t offset;
};

struct Folder {
  unsigned method;
  std::vector<Data> blocks;
};

struct Cabinet {
  std::vector<Folder> folders;
  std::vector<File> files;
  std::string previous, next;
  unsigned number = 0;
};

Bytes write(const Cabinet& cabinet, const CabOptions& options) {
  bool reserve = options.header_reserve + options.folder_reserve + options.data_reserve > 0;
  ByteWriter names, folders, files, data;
  if (reserve)
    names.u16(options.header_reserve)
        .u8(options.folder_reserve)
        .u8(options.data_reserve)
        .zeros(options.header_reserve);
  if (!cabinet.previous.empty()) names.text(cabinet.previous).u8(0).text("disk").u8(0);
  if (!cabinet.next.empty()) names.text(cabinet.next).u8(0).text("disk").u8(0);
  std::size_t files_at = 36 + names.size() + cabinet.folders.size() * (8 + options.folder_reserve);
  for (const File& file : cabinet.files) {
    files.u32(file.file->data.size())
        .u32(file.offset)
        .u16(file.folder)
        .u16(kDate)
        .u16(kTime)
        .u16(file.file->flags);
    files.text(file.file->name).u8(0);
  }
  std::size_t data_at = files_at + files.size();
  for (const Folder& folder : cabinet.folders) {
    folders.u32(data_at + data.size())
        .u16(folder.blocks.size())
        .u16(folder.method)
        .zeros(options.folder_reserve);
    for (const Data& block : folder.blocks) {
      Bytes front = ByteWriter().u16(block.packed.size()).u16(block.size).zeros(options.data_reserve).take();
      data.u32(options.sums ? checksum(front, checksum(block.packed, 0)) : 0)
          .bytes(front)
          .bytes(block.packed);
    }
  }
  unsigned flags =
      (cabinet.previous.empty() ? 0u : 1u) | (cabinet.next.empty() ? 0u : 2u) | (reserve ? 4u : 0u);
  ByteWriter out;
  out.text("MSCF").u32(0).u32(data_at + data.size()).u32(0).u32(files_at).u32(0).u8(3).u8(1);
  out.u16(cabinet.folders.size()).u16(cabinet.files.size()).u16(flags).u16(4711).u16(cabinet.number);
  return out.bytes(names.view()).bytes(folders.view()).bytes(files.view()).bytes(data.view()).take();
}

}  // namespace

Bytes make_cab(const std::vector<CabFolder>& folders, const CabOptions& options) {
  Cabinet cabinet;
  for (const CabFolder& folder : folders) {
    std::size_t offset = 0;
    for (const CabFile& file : folder.files) {
      cabinet.files.push_back({&file, static_cast<unsigned>(cabinet.folders.size()), offset});
      offset += file.data.size();
    }
    cabinet.folders.push_back({method_of(folder), pack(folder)});
  }
  return write(cabinet, options);
}

std::vector<Bytes> make_cab_set(const std::vector<CabFolder>& folders, std::size_t most) {
  std::vector<Cabinet> cabinets(1);
  std::size_t room = most;
  auto next_cabinet = [&] {
    cabinets.emplace_back();
    cabinets.back().number = static_cast<unsigned>(cabinets.size() - 1);
    room = most;
  };
  for (const CabFolder& folder : folders) {
    // Where in the unpacked folder each cabinet's part begins.
    std::size_t first = cabinets.size() - 1, unpacked = 0;
    std::vector<std::size_t> begins = {0};
    cabinets.back().folders.push_back({method_of(folder), {}});
    for (Data& block : pack(folder)) {
      if (block.packed.size() > room) {
        std::size_t part = room;
        ByteView packed(block.packed);
        Bytes rest(packed.begin() + static_cast<std::ptrdiff_t>(part), packed.end());
        if (part > 0)
          cabinets.back().folders.back().blocks.push_back(
              {Bytes(packed.begin(), packed.begin() + static_cast<std::ptrdiff_t>(part)), 0});
        next_cabinet();
        begins.push_back(unpacked);
        cabinets.back().folders.push_back({method_of(folder), {}});
        block.packed = std::move(rest);
      }
      room -= block.packed.size();
      unpacked += block.size;
      cabinets.back().folders.back().blocks.push_back(std::move(block));
    }
    begins.push_back(SIZE_MAX);
    std::size_t offset = 0;
    for (const CabFile& file : folder.files) {
      std::size_t end = offset + file.data.size();
      for (std::size_t i = 0; i + 1 < begins.size(); ++i) {
        bool before = offset < begins[i] && end > begins[i], after = end > begins[i + 1];
        if (!before && (offset < begins[i] || offset >= begins[i + 1])) continue;
        auto own = static_cast<unsigned>(cabinets[first + i].folders.size() - 1);
        if (i > 0) own = 0;
        unsigned number = before ? (after ? 0xFFFF : 0xFFFD) : after ? 0xFFFE : own;
        cabinets[first + i].files.push_back({&file, number, offset});
      }
      offset = end;
    }
  }
  std::vector<Bytes> all;
  for (std::size_t i = 0; i < cabinets.size(); ++i) {
    if (i > 0) cabinets[i].previous = fmt::format("tide{}.cab", i);
    if (i + 1 < cabinets.size()) cabinets[i].next = fmt::format("tide{}.cab", i + 2);
    all.push_back(write(cabinets[i], {}));
  }
  return all;
}

}  // namespace operculum::test
