#include "support/pack_tools.h"

#include <openssl/evp.h>
#include <zlib.h>

#include <algorithm>

namespace operculum::test {
namespace {

Bytes encrypt(const EVP_CIPHER* cipher, ByteView plain, ByteView key, const Byte* iv) {
  EVP_CIPHER_CTX* context = EVP_CIPHER_CTX_new();
  EVP_EncryptInit_ex(context, cipher, nullptr, key.data(), iv);
  EVP_CIPHER_CTX_set_padding(context, 0);
  Bytes out(plain.size() + 16);
  int length = 0;
  EVP_EncryptUpdate(context, out.data(), &length, plain.data(), static_cast<int>(plain.size()));
  out.resize(static_cast<std::size_t>(length));
  EVP_CIPHER_CTX_free(context);
  return out;
}

struct Copy {
  std::size_t distance = 0, length = 0;
};

/// The longest copy of what follows `at` from at most `window` bytes back, by trying all.
Copy longest_copy(ByteView plain, std::size_t at, std::size_t window, std::size_t most) {
  Copy best;
  for (std::size_t from = at > window ? at - window : 0; from < at; ++from) {
    std::size_t length = 0;
    while (length < most && at + length < plain.size() && plain[from + length] == plain[at + length])
      ++length;
    if (length > best.length) best = {at - from, length};
  }
  return best;
}

/// Collects flags, eight items each, in front of the items.
class Flagged {
 public:
  explicit Flagged(bool from_low) : from_low_(from_low) {}
  void add(bool flag, std::initializer_list<int> bytes) {
    if (count_ % 8 == 0) {
      at_ = out_.size();
      out_.push_back(0);
    }
    if (flag)
      out_[at_] = static_cast<Byte>(out_[at_] | (from_low_ ? 1 << (count_ % 8) : 0x80 >> (count_ % 8)));
    for (int b : bytes) out_.push_back(static_cast<Byte>(b));
    ++count_;
  }
  Bytes take() { return std::move(out_); }

 private:
  bool from_low_;
  Bytes out_;
  std::size_t count_ = 0, at_ = 0;
};

class HighBitWriter {
 public:
  void put(unsigned value, unsigned bits) {
    for (unsigned i = bits; i-- > 0;) {
      if (count_ % 8 == 0) out_.push_back(0);
      if ((value >> i & 1) != 0) out_.back() = static_cast<Byte>(out_.back() | 0x80 >> (count_ % 8));
      ++count_;
    }
  }
  Bytes take() { return std::move(out_); }

 private:
  Bytes out_;
  std::size_t count_ = 0;
};

}  // namespace

Bytes encrypt_aes_ecb(ByteView plain, ByteView key) {
  return encrypt(EVP_aes_128_ecb(), plain, key, nullptr);
}

Bytes encrypt_aes_cbc(Bytes plain, ByteView key, ByteView iv) {
  plain.resize((plain.size() + 15) / 16 * 16);
  return encrypt(EVP_aes_128_cbc(), plain, key, iv.data());
}

Bytes mix_lcg(Bytes plain, std::uint32_t seed) {
  for (Byte& b : plain) {
    seed = seed * 1664525 + 1013904223;
    b = static_cast<Byte>(b ^ (seed >> 24));
  }
  return plain;
}

Bytes mix_xor(Bytes plain, std::string_view key, std::size_t start) {
  for (std::size_t i = 0; i < plain.size(); ++i)
    plain[i] = static_cast<Byte>(plain[i] ^ key[(start + i) % key.size()]);
  return plain;
}

Bytes pack_packbits(ByteView plain) {
  Bytes out;
  for (std::size_t at = 0; at < plain.size();) {
    std::size_t run = 1;
    while (run < 128 && at + run < plain.size() && plain[at + run] == plain[at]) ++run;
    if (run >= 3) {
      out.push_back(static_cast<Byte>(257 - run));
      out.push_back(plain[at]);
      at += run;
      continue;
    }
    std::size_t count = std::min<std::size_t>(plain.size() - at, 4);
    out.push_back(static_cast<Byte>(count - 1));
    out.insert(out.end(), plain.begin() + static_cast<std::ptrdiff_t>(at),
               plain.begin() + static_cast<std::ptrdiff_t>(at + count));
    at += count;
  }
  return out;
}

Bytes pack_marked(ByteView plain, Byte marker) {
  Bytes out;
  for (std::size_t at = 0; at < plain.size();) {
    std::size_t run = 1;
    while (run < 255 && at + run < plain.size() && plain[at + run] == plain[at]) ++run;
    if (plain[at] == marker) {
      out.insert(out.end(), {marker, 0});
      ++at;
    } else if (run > 3) {
      out.insert(out.end(), {marker, static_cast<Byte>(run), plain[at]});
      at += run;
    } else {
      out.push_back(plain[at++]);
    }
  }
  return out;
}

Bytes pack_lzss_ring(ByteView plain) {
  Flagged out(true);
  for (std::size_t at = 0; at < plain.size();) {
    Copy copy = longest_copy(plain, at, 4078, 18);
    if (copy.length < 3) {
      out.add(true, {plain[at++]});
      continue;
    }
    std::size_t position = (4078 + at - copy.distance) % 4096;
    out.add(false,
            {static_cast<int>(position & 0xff), static_cast<int>((position >> 8) << 4 | (copy.length - 3))});
    at += copy.length;
  }
  return out.take();
}

Bytes pack_lzss_back(ByteView plain) {
  Flagged out(false);
  for (std::size_t at = 0; at < plain.size();) {
    Copy copy = longest_copy(plain, at, 1024, 66);
    if (copy.length < 3) {
      out.add(false, {plain[at++]});
      continue;
    }
    std::size_t offset = copy.distance - 1;
    out.add(true, {static_cast<int>((copy.length - 3) << 2 | offset >> 8), static_cast<int>(offset & 0xff)});
    at += copy.length;
  }
  return out.take();
}

Bytes pack_lzh(ByteView plain) {
  struct Item {
    unsigned symbol;
    std::size_t distance;
  };
  std::vector<Item> items;
  for (std::size_t at = 0; at < plain.size();) {
    Copy copy = longest_copy(plain, at, 8192, 256);
    if (copy.length < 3) {
      items.push_back({plain[at++], 0});
    } else {
      items.push_back({static_cast<unsigned>(copy.length - 3 + 256), copy.distance - 1});
      at += copy.length;
    }
  }
  HighBitWriter out;
  out.put(static_cast<unsigned>(items.size()), 16);
  // The code for lengths has a single symbol, 11: every literal and length gets a code of 9 bits (11 - 2).
  out.put(0, 5);
  out.put(11, 5);
  out.put(510, 9);
  // Positions: 14 symbols of 4 bits each; two codes stay unused.
  out.put(14, 4);
  for (int i = 0; i < 14; ++i) out.put(4, 3);
  for (const Item& item : items) {
    out.put(item.symbol, 9);
    if (item.symbol < 256) continue;
    unsigned bits = 0;
    while (item.distance >> bits != 0) ++bits;
    out.put(bits, 4);
    if (bits > 1) out.put(static_cast<unsigned>(item.distance - (std::size_t{1} << (bits - 1))), bits - 1);
  }
  return out.take();
}

std::uint32_t fnv1a_32(std::string_view text) {
  std::uint32_t hash = 2166136261;
  for (char c : text) hash = (hash ^ static_cast<unsigned char>(c)) * 16777619;
  return hash;
}

std::uint32_t adler32(ByteView bytes) {
  return static_cast<std::uint32_t>(::adler32(1, bytes.data(), static_cast<uInt>(bytes.size())));
}

std::uint16_t crc16_ccitt(ByteView bytes) {
  unsigned crc = 0xffff;
  for (Byte b : bytes) {
    crc ^= unsigned{b} << 8;
    for (int bit = 0; bit < 8; ++bit) crc = (crc << 1) ^ ((crc & 0x8000) != 0 ? 0x11021 : 0);
  }
  return static_cast<std::uint16_t>(crc);
}

Bytes digest(const char* name, ByteView bytes) {
  Bytes out(EVP_MAX_MD_SIZE);
  unsigned length = 0;
  EVP_Digest(bytes.data(), bytes.size(), out.data(), &length, EVP_get_digestbyname(name), nullptr);
  out.resize(length);
  return out;
}

}  // namespace operculum::test
