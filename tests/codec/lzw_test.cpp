// LZW in its dialects and LZHUF, each against an encoder that is written here.
#include "codec/lzw.h"

#include <gtest/gtest.h>

#include <map>

#include "base/error.h"
#include "codec/lzhuf.h"
#include "support/bit_writer.h"
#include "support/refusal.h"
#include "support/sample_tree.h"

namespace operculum {
namespace {

using namespace test;

Bytes pack_lzw(const std::string& text, const LzwDialect& dialect) {
  unsigned first = 256;
  for (const auto& code : {dialect.clear, dialect.end})
    if (code) first = std::max(first, *code + 1);
  BitWriter out(dialect.high_first);
  std::map<std::string, unsigned> table;
  unsigned next = first, width = dialect.least;
  auto reset = [&] {
    table.clear();
    for (unsigned i = 0; i < 256; ++i) table[std::string(1, static_cast<char>(i))] = i;
    next = first;
    width = dialect.least;
  };
  reset();
  if (dialect.clear) out.put(*dialect.clear, width);
  std::string current;
  bool is_first = true;
  auto emit = [&](unsigned code) {
    out.put(code, width);
    // the decoder adds an entry with each code but the first
    if (!is_first && next < (1u << dialect.most)) ++next;
    is_first = false;
    while (width < dialect.most && next + (dialect.early ? 1 : 0) >= (1u << width)) ++width;
  };
  for (char c : text) {
    if (table.count(current + c) != 0) {
      current += c;
      continue;
    }
    unsigned added = is_first ? next : next + 1;
    emit(table[current]);
    if (added < (1u << dialect.most)) table[current + c] = added;
    current = c;
  }
  if (!current.empty()) emit(table[current]);
  if (dialect.end) out.put(*dialect.end, width);
  return out.take();
}

StreamPtr stream_of(Bytes bytes) {
  return make_source_stream(make_memory_source(std::move(bytes)));
}

std::string decoded(StreamPtr stream) {
  Bytes all = read_all(*stream, 64 << 20);
  return std::string(as_text(all));
}

std::string sample(std::size_t size) {
  std::string out;
  for (std::size_t i = 0; out.size() < size; ++i)
    out += "high water at " + std::to_string(i * 7 % 1000) + ", low at dawn; ";
  out.resize(size);
  return out;
}

struct Dialect {
  const char* name;
  LzwDialect dialect;
};
struct Lzw : testing::TestWithParam<Dialect> {};

TEST_P(Lzw, GivesWhatWasPacked) {
  for (std::size_t size : {1u, 2u, 300u, 20'000u, 200'000u}) {
    std::string text = sample(size);
    Bytes packed = pack_lzw(text, GetParam().dialect);
    EXPECT_EQ(decoded(open_lzw(stream_of(packed), GetParam().dialect, size)), text) << size;
    if (GetParam().dialect.end) {
      EXPECT_EQ(decoded(open_lzw(stream_of(packed), GetParam().dialect, std::nullopt)), text) << size;
    }
  }
}

TEST_P(Lzw, DamageIsToldOrGivesOtherBytes) {
  std::string text = sample(5000);
  Bytes packed = pack_lzw(text, GetParam().dialect);
  for (std::size_t at = 0; at < packed.size(); at += 3) {
    Bytes wrong = packed;
    wrong[at] ^= 0x55;
    try {
      decoded(open_lzw(stream_of(wrong), GetParam().dialect, text.size()));
    } catch (const Error&) {
    }
  }
  packed.resize(packed.size() / 2);
  EXPECT_REFUSAL(decoded(open_lzw(stream_of(packed), GetParam().dialect, text.size())), CutShort,
                 "lzw data: the data ends too early; it is cut short");
}

INSTANTIATE_TEST_SUITE_P(Dialects, Lzw,
                         testing::Values(Dialect{"pictures", {9, 12, 256, 257, false, false}},
                                         Dialect{"pages", {9, 12, 256, 257, true, true}},
                                         Dialect{"plain", {9, 14, std::nullopt, std::nullopt, false, false}},
                                         Dialect{"fixed", {12, 12, std::nullopt, std::nullopt, true, false}},
                                         Dialect{"only_end", {9, 16, std::nullopt, 256, true, false}}),
                         [](const auto& one) { return one.param.name; });

TEST(LzwDialects, RefusesWhatCannotBe) {
  EXPECT_REFUSAL(open_lzw(stream_of({}), {8, 12}, 1), Malformed,
                 "lzw: codes of 8 to 12 bits; 9 to 16 are known");
  EXPECT_REFUSAL(open_lzw(stream_of({}), {9, 17}, 1), Malformed,
                 "lzw: codes of 9 to 17 bits; 9 to 16 are known");
  EXPECT_REFUSAL(open_lzw(stream_of({}), {9, 12, 300, 100}, 1), Malformed,
                 "lzw: 100 is no code behind those of bytes");
}

/// The encoder of LZHUF as it was published, with its arrays; matches are searched plainly.
class LzhufWriter {
 public:
  LzhufWriter() : out_(true) {
    for (int i = 0; i < kChars; ++i) {
      freq_[i] = 1;
      son_[i] = i + kT;
      prnt_[i + kT] = i;
    }
    for (int i = 0, j = kChars; j <= kR; i += 2, ++j) {
      freq_[j] = freq_[i] + freq_[i + 1];
      son_[j] = i;
      prnt_[i] = prnt_[i + 1] = j;
    }
    freq_[kT] = 0xFFFF;
    prnt_[kR] = 0;
  }

  Bytes pack(const std::string& text) {
    std::string ring(4096 - 60, ' ');
    std::string all = ring + text;
    for (std::size_t at = ring.size(); at < all.size();) {
      std::size_t best = 0, distance = 0;
      for (std::size_t back = 1; back <= std::min<std::size_t>(at, 4095 - 60); ++back) {
        std::size_t length = 0;
        while (length < 60 && at + length < all.size() && all[at + length] == all[at + length - back])
          ++length;
        if (length > best) {
          best = length;
          distance = back;
        }
      }
      if (best < 3) {
        code(static_cast<unsigned char>(all[at++]));
        continue;
      }
      code(static_cast<int>(255 - 2 + best));
      position(static_cast<int>(distance - 1));
      at += best;
    }
    return out_.take();
  }

 private:
  static constexpr int kChars = 314, kT = 627, kR = 626;

  void code(int c) {
    std::vector<int> bits;
    for (int k = prnt_[c + kT];; k = prnt_[k]) {
      bits.push_back(k & 1);
      if (k == kR) break;
    }
    bits.pop_back();  // of the root itself
    for (std::size_t i = bits.size(); i-- > 0;) out_.put(static_cast<unsigned>(bits[i]), 1);
    update(c);
  }

  void position(int value) {
    struct Row {
      int parts, bits;
      unsigned first;
    };
    constexpr Row kRows[] = {{1, 3, 0x00},  {3, 4, 0x20},  {8, 5, 0x50},
                             {12, 6, 0x90}, {24, 7, 0xC0}, {16, 8, 0xF0}};
    int part = value >> 6;
    for (const Row& row : kRows) {
      if (part < row.parts) {
        out_.put((row.first >> (8 - row.bits)) + static_cast<unsigned>(part),
                 static_cast<unsigned>(row.bits));
        break;
      }
      part -= row.parts;
    }
    out_.put(static_cast<unsigned>(value & 63), 6);
  }

  void reconst() {
    int j = 0;
    for (int i = 0; i < kT; ++i)
      if (son_[i] >= kT) {
        freq_[j] = (freq_[i] + 1) / 2;
        son_[j++] = son_[i];
      }
    for (int i = 0, n = kChars; n < kT; i += 2, ++n) {
      int f = freq_[i] + freq_[i + 1], k = n - 1;
      while (f < freq_[k]) --k;
      ++k;
      for (int m = n; m > k; --m) {
        freq_[m] = freq_[m - 1];
        son_[m] = son_[m - 1];
      }
      freq_[k] = f;
      son_[k] = i;
    }
    for (int i = 0; i < kT; ++i) {
      int k = son_[i];
      prnt_[k] = i;
      if (k < kT) prnt_[k + 1] = i;
    }
  }

  void update(int c) {
    if (freq_[kR] == 0x8000) reconst();
    c = prnt_[c + kT];
    do {
      int k = ++freq_[c], l = c + 1;
      if (k > freq_[l]) {
        while (k > freq_[++l]) {
        }
        --l;
        freq_[c] = freq_[l];
        freq_[l] = k;
        int i = son_[c];
        prnt_[i] = l;
        if (i < kT) prnt_[i + 1] = l;
        int j = son_[l];
        son_[l] = i;
        prnt_[j] = c;
        if (j < kT) prnt_[j + 1] = c;
        son_[c] = j;
        c = l;
      }
      c = prnt_[c];
    } while (c != 0);
  }

  BitWriter out_;
  int freq_[kT + 1] = {}, prnt_[kT + kChars] = {}, son_[kT] = {};
};

TEST(Lzhuf, GivesWhatWasPacked) {
  for (std::size_t size : {1u, 10u, 5000u, 20'000u}) {
    std::string text = sample(size);
    Bytes packed = LzhufWriter().pack(text);
    EXPECT_EQ(decoded(open_lzhuf(stream_of(packed), size)), text) << size;
  }
  // enough symbols that the tree's counts are halved
  std::string many(as_text(noise(36'000)));
  EXPECT_EQ(decoded(open_lzhuf(stream_of(LzhufWriter().pack(many)), many.size())), many);
}

TEST(Lzhuf, DamageIsToldOrGivesOtherBytes) {
  std::string text = sample(3000);
  Bytes packed = LzhufWriter().pack(text);
  for (std::size_t at = 0; at < packed.size(); at += 3) {
    Bytes wrong = packed;
    wrong[at] ^= 0x5A;
    try {
      decoded(open_lzhuf(stream_of(wrong), text.size()));
    } catch (const Error&) {
    }
  }
  packed.resize(packed.size() / 2);
  EXPECT_REFUSAL(decoded(open_lzhuf(stream_of(packed), text.size())), CutShort,
                 "lzhuf data: the data ends too early; it is cut short");
}

}  // namespace
}  // namespace operculum
