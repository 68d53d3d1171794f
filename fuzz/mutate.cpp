#include "fuzz/mutate.h"

#include <algorithm>
#include <cstring>
#include <string_view>

#include "base/checksum.h"

namespace operculum::fuzz {
namespace {

enum class Sum {
  crc32,           ///< as ZIP and PNG have it
  crc32_plain,     ///< from all ones, without inversion at the end
  crc32_zero,      ///< from zero, without inversion
  crc32c,          ///< with inversion
  crc32c_plain,    ///< without
  sum16_to_zero,   ///< 16-bit words of everything add up to 0
  bytes_inverted,  ///< the sum of all bytes, inverted
  octal,           ///< the sum of all bytes in six octal digits, with blanks in the sum's place
};
enum class Order { little, big };

/// A header that is found by its magic and has a checksum of itself, which counts as zeros in it.
struct Rule {
  std::string_view targets;  ///< names, with a blank around each
  std::string_view magic;
  std::size_t magic_at;  ///< in the header
  std::size_t length;    ///< bytes that are summed, from the header's begin
  std::size_t sum_at;
  Sum sum;
  Order order = Order::little;
};

using namespace std::string_view_literals;
const Rule kRules[] = {
    {" tar rewrite-tar ", "ustar"sv, 257, 512, 148, Sum::octal},
    {" gpt ", "EFI PART"sv, 0, 92, 16, Sum::crc32},
    {" boot-image ", "\x27\x05\x19\x56"sv, 0, 64, 4, Sum::crc32, Order::big},
    {" ubi nand-dump ", "UBI#"sv, 0, 60, 60, Sum::crc32_plain, Order::big},
    {" ubi nand-dump ", "UBI!"sv, 0, 60, 60, Sum::crc32_plain, Order::big},
    {" jffs2 ", "\x85\x19"sv, 0, 8, 8, Sum::crc32_zero},
    {" jffs2 ", "\x19\x85"sv, 0, 8, 8, Sum::crc32_zero, Order::big},
    {" uefi ", "_FVH"sv, 40, 72, 50, Sum::sum16_to_zero},
    {" ext ", "\x53\xef"sv, 0x38, 1020, 1020, Sum::crc32c_plain},
    {" xfs xfs-pages ", "XFSB"sv, 0, 512, 224, Sum::crc32c},
    {" xfs xfs-pages ", "IN"sv, 0, 512, 100, Sum::crc32c},
    {" xfs xfs-pages ", "XDB3"sv, 0, 4096, 4, Sum::crc32c},
    {" xfs xfs-pages ", "XDD3"sv, 0, 4096, 4, Sum::crc32c},
    {" xfs xfs-pages ", "BMA3"sv, 0, 4096, 64, Sum::crc32c},
    {" vhd ", "conectix"sv, 0, 512, 64, Sum::bytes_inverted, Order::big},
    {" vhd ", "cxsparse"sv, 0, 1024, 36, Sum::bytes_inverted, Order::big},
    {" vhdx ", "head"sv, 0, 4096, 4, Sum::crc32c},
    {" vhdx ", "regi"sv, 0, 65536, 4, Sum::crc32c},
};

std::uint32_t total(ByteView bytes) {
  std::uint32_t sum = 0;
  for (Byte byte : bytes) sum += byte;
  return sum;
}

void store(ByteSpan to, std::uint32_t value, Order order) {
  for (std::size_t i = 0; i < to.size(); ++i) {
    std::size_t shift = 8 * (order == Order::little ? i : to.size() - 1 - i);
    to[i] = static_cast<Byte>(value >> shift);
  }
}

std::uint32_t sum_of(Sum kind, ByteView bytes) {
  switch (kind) {
    case Sum::crc32:
      return crc32(0, bytes);
    case Sum::crc32_plain:
      return ~crc32(0, bytes);
    case Sum::crc32_zero:
      return ~crc32(0xFFFFFFFF, bytes);
    case Sum::crc32c:
      return ~crc32c(~0U, bytes);
    case Sum::crc32c_plain:
      return crc32c(~0U, bytes);
    case Sum::bytes_inverted:
      return ~total(bytes);
    default:
      return total(bytes);
  }
}

void set_sum(const Rule& rule, ByteSpan bytes) {
  ByteSpan summed = bytes.first(rule.length);
  std::size_t width = rule.sum == Sum::octal ? 8 : rule.sum == Sum::sum16_to_zero ? 2 : 4;
  if (rule.sum_at + width > bytes.size()) return;
  ByteSpan place = bytes.subspan(rule.sum_at, width);
  std::fill(place.begin(), place.end(), rule.sum == Sum::octal ? Byte{' '} : Byte{0});
  if (rule.sum == Sum::octal) {
    std::uint32_t sum = total(summed);
    for (int digit = 5; digit >= 0; --digit, sum /= 8) place[static_cast<std::size_t>(digit)] = '0' + sum % 8;
    place[6] = 0;
  } else if (rule.sum == Sum::sum16_to_zero) {
    std::uint32_t words = 0;
    for (std::size_t i = 0; i + 1 < summed.size(); i += 2) words += summed[i] + summed[i + 1] * 256u;
    store(place, 0x10000 - words % 0x10000, Order::little);
  } else {
    store(place, sum_of(rule.sum, summed), rule.order);
  }
}

/// The superblock of btrfs and nodes of one page: their checksum is in front of what it covers. `bytes` are
/// pages, see formats.cpp.
void set_btrfs(ByteSpan bytes) {
  constexpr std::size_t kSum = 32, kPage = 4096, kNumber = 4;
  if (bytes.empty()) return;
  for (std::size_t at = 1 + bytes[0] * kNumber; at + kPage <= bytes.size(); at += kPage) {
    ByteSpan page = bytes.subspan(at, kPage);
    store(page.first(4), ~crc32c(~0U, page.subspan(kSum)), Order::little);
  }
}

/// Where the central directory of a ZIP lies is told where it lies now.
void set_directory(ByteSpan bytes) {
  constexpr std::string_view kCentral = "PK\x01\x02"sv, kEnd = "PK\x05\x06"sv;
  constexpr std::size_t kOffsetAt = 16, kEndSize = 22;
  auto find = [&](std::string_view magic) {
    return static_cast<std::size_t>(std::search(bytes.begin(), bytes.end(), magic.begin(), magic.end()) -
                                    bytes.begin());
  };
  std::size_t central = find(kCentral), end = find(kEnd);
  if (central == bytes.size() || end + kEndSize > bytes.size() || central > end) return;
  store(bytes.subspan(end + kOffsetAt, 4), static_cast<std::uint32_t>(central), Order::little);
  store(bytes.subspan(end + kOffsetAt - 4, 4), static_cast<std::uint32_t>(end - central), Order::little);
}

}  // namespace

void set_checksums(const std::string& target, ByteSpan bytes) {
  std::string word = " " + target + " ";
  if (target == "btrfs-pages") set_btrfs(bytes);
  if (target == "zip") set_directory(bytes);
  if (target == "rewrite-zip" && bytes.size() > 4) set_directory(bytes.subspan(4));
  for (const Rule& rule : kRules) {
    if (rule.targets.find(word) == std::string_view::npos) continue;
    for (std::size_t at = 0; at + rule.length <= bytes.size();) {
      auto begin = bytes.begin() + static_cast<std::ptrdiff_t>(at + rule.magic_at);
      auto found = std::search(begin, bytes.end(), rule.magic.begin(), rule.magic.end(),
                               [](Byte a, char b) { return a == static_cast<Byte>(b); });
      if (found == bytes.end()) break;
      std::size_t header = static_cast<std::size_t>(found - bytes.begin()) - rule.magic_at;
      if (header + rule.length > bytes.size()) break;
      set_sum(rule, bytes.subspan(header));
      at = header + 1;
    }
  }
}

}  // namespace operculum::fuzz
