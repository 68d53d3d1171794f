// The NRV family, against a packer that is written here.
#include "codec/nrv.h"

#include <gtest/gtest.h>

#include <deque>

#include "base/error.h"
#include "support/lz_items.h"
#include "support/sample_tree.h"

namespace operculum {
namespace {

using namespace test;

/// Bits in words and whole bytes, in the order in which a decoder asks for them.
class NrvWriter {
 public:
  explicit NrvWriter(unsigned word) : word_(word) {}
  void bit(std::uint64_t one) {
    if (left_ == 0) {
      at_ = bytes_.size();
      bytes_.resize(bytes_.size() + word_ / 8);
      left_ = word_;
    }
    --left_;
    bytes_[at_ + left_ / 8] |= static_cast<Byte>(one << (left_ % 8));
  }
  void byte(std::uint64_t value) { bytes_.push_back(static_cast<Byte>(value)); }
  Bytes take() { return bytes_; }

 private:
  unsigned word_, left_ = 0;
  std::size_t at_ = 0;
  Bytes bytes_;
};

class NrvPacker {
 public:
  explicit NrvPacker(const NrvDialect& dialect) : dialect_(dialect), out_(dialect.word) {}

  Bytes pack(ByteView plain) {
    for (const LzItem& item : find_copies(plain, {.window = 1 << 16, .least = 4, .longest = 3000})) {
      if (item.length == 0) {
        out_.bit(1);
        out_.byte(item.literal);
      } else {
        copy(item.distance, item.length);
      }
    }
    out_.bit(0);            // the end
    upper_part(0x1000002);  // (number - 3) * 256 + 0xff is 2^32 - 1
    out_.byte(0xff);
    return out_.take();
  }

 private:
  bool is_b() const { return dialect_.form == NrvForm::b; }

  void copy(std::uint64_t distance, std::uint64_t length) {
    out_.bit(0);
    length -= 1 + (distance > (is_b() ? 0xd00u : 0x500u) ? 1 : 0);
    std::uint64_t first_bit = dialect_.form == NrvForm::e ? (length <= 2 ? 1 : 0)
                              : length <= 3               ? length >> 1
                                                          : 0;
    if (distance == last_) {
      upper_part(2);
      if (!is_b()) out_.bit(first_bit);
    } else {
      std::uint64_t told = distance - 1;
      if (!is_b()) told = told << 1 | (first_bit ^ 1);
      upper_part((told >> 8) + 3);
      out_.byte(told & 0xff);
      last_ = distance;
    }
    if (is_b()) out_.bit(first_bit);
    if (dialect_.form != NrvForm::e) {
      out_.bit(length <= 3 ? length & 1 : 0);
      if (length > 3) gamma(length - 2);
    } else if (length <= 2) {
      out_.bit(length - 1);
    } else if (length <= 4) {
      out_.bit(1);
      out_.bit(length - 3);
    } else {
      out_.bit(0);
      gamma(length - 3);
    }
  }

  void gamma(std::uint64_t number) {
    std::deque<std::uint64_t> bits;
    for (; number > 1; number >>= 1) bits.push_front(number & 1);
    for (std::size_t i = 0; i < bits.size(); ++i) {
      out_.bit(bits[i]);
      out_.bit(i + 1 == bits.size() ? 1 : 0);
    }
  }

  void upper_part(std::uint64_t number) {
    if (is_b()) return gamma(number);
    std::deque<std::uint64_t> bits;  // as the decoder takes them, with those that tell whether more follow
    bool stops = true;
    while (true) {
      bits.push_front(stops ? 1 : 0);
      bits.push_front(number & 1);
      number >>= 1;
      stops = false;
      if (number == 1) break;
      bits.push_front(number & 1);
      number = (number >> 1) + 1;
    }
    for (std::uint64_t one : bits) out_.bit(one);
  }

  NrvDialect dialect_;
  NrvWriter out_;
  std::uint64_t last_ = 1;
};

Bytes decode(ByteView packed, const NrvDialect& dialect, std::optional<std::uint64_t> size = std::nullopt) {
  SourcePtr source = make_memory_source(Bytes(packed.begin(), packed.end()));
  return read_all(*open_nrv(make_source_stream(source), dialect, size), 1 << 24);
}

Bytes plain_text() {
  Bytes plain = to_bytes("AAAAAAAAAAAAAAAAAAAAAAAAAA");
  std::uint32_t state = 3;
  for (int i = 0; i < 4000; ++i) {
    state = state * 1664525 + 1013904223;
    std::string line = "gauge " + std::to_string(state >> 22) + (i % 3 == 0 ? " ebb\n" : " flood\n");
    plain.insert(plain.end(), line.begin(), line.end());
    if (i % 500 == 0) plain.insert(plain.end(), 900, static_cast<Byte>(i));
  }
  return plain;
}

TEST(Nrv, ComesBackInEachFormAndWord) {
  Bytes plain = plain_text();
  for (NrvForm form : {NrvForm::b, NrvForm::d, NrvForm::e}) {
    for (unsigned word : {8u, 16u, 32u}) {
      NrvDialect dialect{form, word};
      Bytes packed = NrvPacker(dialect).pack(plain);
      EXPECT_LT(packed.size(), plain.size() / 2);
      EXPECT_EQ(decode(packed, dialect), plain) << static_cast<int>(form) << " words of " << word;
      EXPECT_EQ(decode(packed, dialect, plain.size()), plain);
      EXPECT_EQ(decode(packed, dialect, 100), Bytes(plain.begin(), plain.begin() + 100));
    }
  }
}

TEST(Nrv, TellsWhatIsDamaged) {
  auto sentence = [](ByteView packed, unsigned word = 8) -> std::string {
    try {
      decode(packed, {NrvForm::b, word});
      return "";
    } catch (const Error& error) {
      return error.what();
    }
  };
  EXPECT_EQ(sentence(Bytes{}), "nrv data: the data ends too early; it is cut short");
  EXPECT_EQ(sentence(Bytes{}, 24), "nrv: words of 24 bits; 8, 16 and 32 are known");
  // a literal, then a copy: upper part 3 (bits 1 1), low byte 9, length
  EXPECT_EQ(sentence(Bytes{0b10110000, 'a', 9}),
            "nrv data: a copy from before the start; the data is damaged");
  EXPECT_EQ(sentence(Bytes(40, 0)), "nrv data: a distance that cannot be; the data is damaged");
}

TEST(Nrv, EndsWhateverIsDamaged) {
  Bytes plain = plain_text();
  std::uint32_t state = 17;
  for (NrvForm form : {NrvForm::b, NrvForm::d, NrvForm::e}) {
    NrvDialect dialect{form, 32};
    Bytes packed = NrvPacker(dialect).pack(plain);
    for (int i = 0; i < 60; ++i) {
      Bytes damaged = packed;
      state = state * 1664525 + 1013904223;
      damaged[(state >> 8) % damaged.size()] ^= static_cast<Byte>(1u << (state >> 5 & 7));
      try {
        EXPECT_LE(decode(damaged, dialect, plain.size()).size(), plain.size());
      } catch (const Malformed&) {
      }
    }
  }
}

}  // namespace
}  // namespace operculum
