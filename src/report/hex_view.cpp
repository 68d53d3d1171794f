#include "report/hex_view.h"

#include <fmt/format.h>

#include <algorithm>

namespace operculum {
namespace {

constexpr std::size_t kPerLine = 16;

}  // namespace

std::string hex_lines(ByteView bytes, std::uint64_t offset) {
  std::string out;
  for (std::size_t at = 0; at < bytes.size(); at += kPerLine) {
    ByteView line = bytes.subspan(at, std::min(kPerLine, bytes.size() - at));
    out += fmt::format("{:08x} ", offset + at);
    for (std::size_t i = 0; i < kPerLine; ++i) {
      if (i == kPerLine / 2) out += ' ';
      out += i < line.size() ? fmt::format(" {:02x}", line[i]) : "   ";
    }
    out += "  ";
    for (Byte b : line) out += b >= 0x20 && b < 0x7f ? static_cast<char>(b) : '.';
    out += '\n';
  }
  return out;
}

}  // namespace operculum
