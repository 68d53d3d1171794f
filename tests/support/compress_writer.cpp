#include "support/compress_writer.h"

#include <map>

namespace operculum::test {
namespace {

constexpr unsigned kFirstFree = 257;  // 256 is the clear code

/// Codes in groups of eight, padded to a whole group where the width changes.
class CodeWriter {
 public:
  explicit CodeWriter(Bytes& out) : out_(out) {}
  void put(unsigned code, unsigned width) {
    for (unsigned bit = 0; bit < width; ++bit) put_bit(((code >> bit) & 1) != 0);
    in_group_ = (in_group_ + 1) % 8;
  }
  void end_group(unsigned width) {
    while (in_group_ != 0) put(0, width);
  }

 private:
  void put_bit(bool bit) {
    if (used_ == 0) out_.push_back(0);
    if (bit) out_.back() |= static_cast<Byte>(1u << used_);
    used_ = (used_ + 1) % 8;
  }
  Bytes& out_;
  unsigned used_ = 0, in_group_ = 0;
};

}  // namespace

Bytes write_compress(ByteView plain, unsigned widest) {
  Bytes out = {0x1f, 0x9d, static_cast<Byte>(0x80 | widest)};
  CodeWriter writer(out);
  std::map<std::pair<unsigned, Byte>, unsigned> table;
  unsigned width = 9, next = kFirstFree;  // `next` is what the reader will have when it reads the code
  bool first = true;
  auto put = [&](unsigned code) {
    writer.put(code, width);
    if (!first && next < (1u << widest)) ++next;
    first = false;
    if (next >= (1u << width) && width < widest) {
      writer.end_group(width);
      ++width;
    }
  };
  std::size_t at = 0;
  while (at < plain.size()) {
    unsigned code = plain[at++];
    while (at < plain.size()) {
      auto longer = table.find({code, plain[at]});
      if (longer == table.end()) break;
      code = longer->second;
      ++at;
    }
    put(code);
    if (at == plain.size()) break;
    if (kFirstFree + table.size() < (1u << widest)) {
      table.emplace(std::pair{code, plain[at]}, static_cast<unsigned>(kFirstFree + table.size()));
    } else {
      writer.put(256, width);
      writer.end_group(width);
      table.clear();
      width = 9;
      next = kFirstFree;
      first = true;
    }
  }
  return out;
}

}  // namespace operculum::test
