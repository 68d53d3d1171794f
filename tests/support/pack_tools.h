#pragma once

#include <string>
#include <string_view>

#include "base/bytes.h"

namespace operculum::test {

// The other direction of what descriptions can undo, for writing packs.

Bytes encrypt_aes_ecb(ByteView plain, ByteView key);
Bytes encrypt_aes_cbc(Bytes plain, ByteView key, ByteView iv);  ///< filled up with zeros to whole blocks
Bytes mix_lcg(Bytes plain, std::uint32_t seed);  ///< with the language's default factor and summand
Bytes mix_xor(Bytes plain, std::string_view key, std::size_t start);
Bytes pack_packbits(ByteView plain);
Bytes pack_marked(ByteView plain, Byte marker);
/// LZSS of the common ring dialect (window 4096), and of the dialect of the cockle store.
Bytes pack_lzss_ring(ByteView plain);
Bytes pack_lzss_back(ByteView plain);
/// LZ77 with Huffman codes a block, literals and copies, every code of the same length.
Bytes pack_lzh(ByteView plain);

std::uint32_t fnv1a_32(std::string_view text);
std::uint32_t adler32(ByteView bytes);
std::uint16_t crc16_ccitt(ByteView bytes);
Bytes digest(const char* name, ByteView bytes);  ///< "MD5", "SHA256"

}  // namespace operculum::test
