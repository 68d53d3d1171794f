#include "support/verity_writer.h"

#include <openssl/sha.h>

#include <vector>

#include "base/text.h"
#include "support/byte_writer.h"
#include "support/sample_tree.h"

namespace operculum::test {
namespace {

Bytes sha256(const Bytes& bytes) {
  Bytes out(32);
  SHA256(bytes.data(), bytes.size(), out.data());
  return out;
}

}  // namespace

HashTree make_hash_tree(unsigned type, std::size_t blocks) {
  constexpr std::size_t kBlock = 512;
  HashTree out;
  out.data = noise(blocks * kBlock, 8);
  Bytes salt = noise(type == 1 ? 32 : 5, 2);
  auto digest = [&](Bytes block) {
    block.insert(type == 1 ? block.begin() : block.end(), salt.begin(), salt.end());
    return sha256(block);
  };
  std::vector<Bytes> levels = {out.data};
  while (levels.back().size() > kBlock || levels.size() == 1) {
    Bytes next;
    for (std::size_t at = 0; at < levels.back().size(); at += kBlock) {
      Bytes one = digest(Bytes(levels.back().begin() + static_cast<std::ptrdiff_t>(at),
                               levels.back().begin() + static_cast<std::ptrdiff_t>(at + kBlock)));
      next.insert(next.end(), one.begin(), one.end());
    }
    next.resize((next.size() + kBlock - 1) / kBlock * kBlock);
    levels.push_back(std::move(next));
  }
  out.root = to_hex(digest(levels.back()));
  ByteWriter head;
  head.text("verity").zeros(2).u32(1).u32(type).bytes(noise(16, 1)).text("sha256").zeros(26);
  head.u32(kBlock).u32(kBlock).u64(blocks).u16(salt.size()).zeros(6).bytes(salt);
  head.zeros(kBlock - head.size());
  for (std::size_t level = levels.size(); level-- > 1;) head.bytes(levels[level]);
  out.tree = head.take();
  return out;
}

}  // namespace operculum::test
