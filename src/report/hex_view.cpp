#include "report/hex_view.h"

#include <fmt/format.h>

#include <algorithm>

namespace operculum {
namespace {

constexpr std::size_t kPerLine = 16;

}  // namespace

std::string hex_letters(ByteView bytes) {
  std::string out;
  for (Byte b : bytes) out += b >= 0x20 && b < 0x7f ? static_cast<char>(b) : '.';
  return out;
}

Shown hex_lines(ByteView bytes, std::uint64_t offset) {
  std::string out;
  for (std::size_t at = 0; at < bytes.size(); at += kPerLine) {
    ByteView line = bytes.subspan(at, std::min(kPerLine, bytes.size() - at));
    out += fmt::format("{:08x} ", offset + at);
    for (std::size_t i = 0; i < kPerLine; ++i) {
      if (i == kPerLine / 2) out += ' ';
      out += i < line.size() ? fmt::format(" {:02x}", line[i]) : "   ";
    }
    out += "  " + hex_letters(line) + '\n';
  }
  return Shown::made(std::move(out));
}

}  // namespace operculum
