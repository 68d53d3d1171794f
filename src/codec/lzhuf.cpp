#include "codec/lzhuf.h"

#include <algorithm>

#include "base/error.h"
#include "codec/adaptive_tree.h"
#include "io/input_buffer.h"

namespace operculum {

AdaptiveTree::AdaptiveTree() {
  for (unsigned i = 0; i < kSymbols; ++i) {
    frequency_[i] = 1;
    son_[i] = static_cast<std::uint16_t>(i + kNodes);
    parent_[i + kNodes] = static_cast<std::uint16_t>(i);
  }
  for (unsigned i = 0, j = kSymbols; j <= kRoot; i += 2, ++j) {
    frequency_[j] = static_cast<std::uint16_t>(frequency_[i] + frequency_[i + 1]);
    son_[j] = static_cast<std::uint16_t>(i);
    parent_[i] = parent_[i + 1] = static_cast<std::uint16_t>(j);
  }
  frequency_[kNodes] = 0xFFFF;
  parent_[kRoot] = 0;
}

void AdaptiveTree::halve() {
  unsigned leaves = 0;
  for (unsigned i = 0; i < kNodes; ++i) {
    if (son_[i] < kNodes) continue;
    frequency_[leaves] = static_cast<std::uint16_t>((frequency_[i] + 1) / 2);
    son_[leaves++] = son_[i];
  }
  for (unsigned i = 0, j = kSymbols; j < kNodes; i += 2, ++j) {
    auto sum = static_cast<std::uint16_t>(frequency_[i] + frequency_[i + 1]);
    unsigned place = j;
    while (sum < frequency_[place - 1]) --place;
    std::copy_backward(frequency_.begin() + place, frequency_.begin() + j, frequency_.begin() + j + 1);
    std::copy_backward(son_.begin() + place, son_.begin() + j, son_.begin() + j + 1);
    frequency_[place] = sum;
    son_[place] = static_cast<std::uint16_t>(i);
  }
  for (unsigned i = 0; i < kNodes; ++i) {
    parent_[son_[i]] = static_cast<std::uint16_t>(i);
    if (son_[i] < kNodes) parent_[son_[i] + 1] = static_cast<std::uint16_t>(i);
  }
}

void AdaptiveTree::count(unsigned symbol) {
  constexpr std::uint16_t kMost = 0x8000;
  if (frequency_[kRoot] == kMost) halve();
  auto set_parent = [this](unsigned node, unsigned parent) {
    parent_[node] = static_cast<std::uint16_t>(parent);
    if (node < kNodes) parent_[node + 1] = static_cast<std::uint16_t>(parent);
  };
  unsigned node = parent_[symbol + kNodes];
  do {
    std::uint16_t now = ++frequency_[node];
    if (unsigned other = node + 1; now > frequency_[other]) {
      while (now > frequency_[other + 1]) ++other;
      std::swap(frequency_[node], frequency_[other]);
      set_parent(son_[node], other);
      set_parent(son_[other], node);
      std::swap(son_[node], son_[other]);
      node = other;
    }
    node = parent_[node];
  } while (node != 0);
}

namespace {

constexpr std::size_t kRing = 4096, kLongest = 60;
constexpr unsigned kShortest = 3, kLowBits = 6;

/// How many of the 256 values of eight bits stand for an upper part of a place, and how long its code is.
struct PlaceCodes {
  unsigned parts, values, bits;
};
constexpr PlaceCodes kPlaceCodes[] = {{1, 32, 3}, {3, 16, 4}, {8, 8, 5}, {12, 4, 6}, {24, 2, 7}, {16, 1, 8}};

class LzhufStream final : public Stream {
 public:
  LzhufStream(StreamPtr packed, std::optional<std::uint64_t> size)
      : input_(std::move(packed)),
        left_(size.value_or(UINT64_MAX)),
        size_known_(size.has_value()),
        ring_(kRing, 0x20) {}

  std::size_t read(ByteSpan out) override {
    std::size_t done = 0;
    while (done < out.size() && left_ > 0) {
      if (copy_ == 0) {
        if (at_end()) break;
        unsigned symbol = take_symbol();
        if (symbol < 256) {
          put(out, done, static_cast<Byte>(symbol));
          continue;
        }
        from_ = (at_ + kRing - take_place() - 1) % kRing;
        copy_ = symbol - 256 + kShortest;
      }
      for (; copy_ > 0 && done < out.size() && left_ > 0; --copy_) {
        put(out, done, ring_[from_]);
        from_ = (from_ + 1) % kRing;
      }
    }
    return done;
  }

 private:
  void put(ByteSpan out, std::size_t& done, Byte byte) {
    out[done++] = byte;
    ring_[at_] = byte;
    at_ = (at_ + 1) % kRing;
    --left_;
  }

  /// Without a size the data ends with its last byte: what is left of it is padding.
  bool at_end() { return !size_known_ && input_.view().empty(); }

  unsigned bit() {
    if (count_ == 0) {
      ByteView in = input_.view();
      if (in.empty()) throw CutShort("lzhuf data: the data ends too early; it is cut short");
      byte_ = in[0];
      input_.consume(1);
      count_ = 8;
    }
    return byte_ >> --count_ & 1u;
  }

  unsigned take_symbol() {
    unsigned node = tree_.first(AdaptiveTree::kRoot);
    while (node < AdaptiveTree::kNodes) node = tree_.first(node + bit());
    tree_.count(node - AdaptiveTree::kNodes);
    return node - AdaptiveTree::kNodes;
  }

  unsigned take_place() {
    unsigned value = 0;
    for (unsigned i = 0; i < 8; ++i) value = value << 1 | bit();
    unsigned part = 0, before = 0;
    for (const PlaceCodes& codes : kPlaceCodes) {
      if (value < before + codes.parts * codes.values) {
        part += (value - before) / codes.values;
        for (unsigned i = 2; i < codes.bits; ++i) value = value << 1 | bit();
        return part << kLowBits | (value & ((1u << kLowBits) - 1));
      }
      part += codes.parts;
      before += codes.parts * codes.values;
    }
    throw Malformed("lzhuf data: an unused code; the data is damaged");
  }

  InputBuffer input_;
  std::uint64_t left_;
  bool size_known_;
  AdaptiveTree tree_;
  Bytes ring_;
  std::size_t at_ = kRing - kLongest, from_ = 0;
  unsigned copy_ = 0, byte_ = 0, count_ = 0;
};

}  // namespace

StreamPtr open_lzhuf(StreamPtr packed, std::optional<std::uint64_t> size) {
  return std::make_unique<LzhufStream>(std::move(packed), size);
}

}  // namespace operculum
