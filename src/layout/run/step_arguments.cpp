#include "layout/run/step_arguments.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "codec/decoders.h"

namespace operculum::layout {
namespace {

WordOrder order_of(const StepArgument& given) {
  return static_cast<WordOrder>(choice_of(given, {"little", "big"}, "the order of bytes"));
}

unsigned rounds_of(const StepArgument& given) {
  return static_cast<unsigned>(std::clamp<std::int64_t>(given.number, 0, UINT16_MAX));
}

}  // namespace

std::size_t choice_of(const StepArgument& given, std::initializer_list<std::string_view> words,
                      std::string_view what) {
  std::size_t index = 0;
  std::string all;
  for (std::string_view word : words) {
    if (word == given.text) return index;
    all += fmt::format("{}{}", all.empty() ? "" : ", ", word);
    ++index;
  }
  throw Malformed(fmt::format("{} \"{}\" is not known; it is one of {}", what, given.text, all));
}

LzssDialect lzss_dialect(const StepArguments& given) {
  auto count = [&](std::size_t i) {
    if (given[i].number < 0) throw Malformed(fmt::format("lzss: a parameter of {}", given[i].number));
    return static_cast<std::uint64_t>(given[i].number);
  };
  LzssDialect dialect;
  dialect.window = count(0);
  dialect.least = count(1);
  dialect.token = given[2].text;
  dialect.ring = choice_of(given[3], {"ring", "back"}, "lzss: the kind of offsets") == 0;
  dialect.start = given[4].given ? count(4) : (dialect.window > 18 ? dialect.window - 18 : 0);
  dialect.fill = static_cast<Byte>(given[5].number);
  dialect.flags_from_low = choice_of(given[6], {"low", "high"}, "lzss: the order of flags") == 0;
  dialect.flag_bytes = static_cast<unsigned>(count(7));
  dialect.literal_flag = given[8].number != 0;
  dialect.nearest = count(9);
  dialect.longer = static_cast<unsigned>(count(10));
  dialect.stops = given[11].number != 0;
  return dialect;
}

LzwDialect lzw_dialect(const StepArguments& given) {
  auto number = [](const StepArgument& one) {
    return static_cast<unsigned>(std::clamp<std::int64_t>(one.number, 0, UINT16_MAX + 1));
  };
  auto code = [&](const StepArgument& one) -> std::optional<unsigned> {
    if (one.number < 0) return std::nullopt;
    return number(one);
  };
  return {number(given[0]),
          number(given[1]),
          code(given[2]),
          code(given[3]),
          choice_of(given[4], {"low", "high"}, "lzw: the order of bits") == 1,
          given[5].number != 0};
}

RunLength run_length_form(const StepArguments& given) {
  return static_cast<RunLength>(choice_of(
      given[0], {"packbits", "pairs", "marked", "high_bit", "top_bits", "ranges"}, "rle: the form"));
}

std::optional<RunRules> run_rules(const StepArguments& given) {
  if (given[0].text != "ranges") return std::nullopt;
  return parse_run_rules(given[2].text);
}

Byte implode_flags(const StepArguments& given) {
  if ((given[0].number != 4096 && given[0].number != 8192) || (given[1].number != 2 && given[1].number != 3))
    throw Malformed(
        fmt::format("implode: a window of {} bytes and {} trees; 4096 and 8192, 2 and 3 are known",
                    given[0].number, given[1].number));
  return static_cast<Byte>((given[0].number == 8192 ? implode_large_window : 0) |
                           (given[1].number == 3 ? implode_three_trees : 0));
}

NrvDialect nrv_dialect(const StepArguments& given) {
  return {static_cast<NrvForm>(choice_of(given[0], {"b", "d", "e"}, "nrv: the form")),
          static_cast<unsigned>(std::clamp<std::int64_t>(given[1].number, 0, 99))};
}

Mix congruential_mix(const StepArguments& given) {
  return static_cast<Mix>(choice_of(given[4], {"xor", "add", "subtract"}, "lcg: how"));
}

Congruential congruential_of(const StepArguments& given) {
  auto word = [&](std::size_t i) { return static_cast<std::uint32_t>(given[i].number); };
  return {word(0), word(1), word(2), static_cast<unsigned>(std::clamp<std::int64_t>(given[3].number, 0, 32))};
}

BlockMode block_mode(const StepArgument& given) {
  return static_cast<BlockMode>(choice_of(given, {"ecb", "cbc", "ctr"}, "the mode"));
}

XtsUnits xts_units(const StepArguments& given) {
  return {given[1].bytes, static_cast<std::size_t>(std::max<std::int64_t>(given[2].number, 0))};
}

std::unique_ptr<BlockCipher> aes_of(const StepArguments& given) {
  return make_aes(given[0].bytes);
}
std::unique_ptr<BlockCipher> des_of(const StepArguments& given) {
  return make_des(given[0].bytes);
}
std::unique_ptr<BlockCipher> blowfish_of(const StepArguments& given) {
  return make_blowfish(given[0].bytes, order_of(given[3]));
}
std::unique_ptr<BlockCipher> tea_of(const StepArguments& given) {
  return make_tea(given[0].bytes, order_of(given[3]), rounds_of(given[4]));
}
std::unique_ptr<BlockCipher> xtea_of(const StepArguments& given) {
  return make_xtea(given[0].bytes, order_of(given[3]), rounds_of(given[4]));
}

}  // namespace operculum::layout
