#include "layout/plan/functions.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/checksum.h"
#include "base/error.h"
#include "base/numbers.h"
#include "base/path_parts.h"
#include "base/sum_kinds.h"
#include "base/text.h"
#include "base/time.h"
#include "layout/run/content_ending.h"
#include "layout/run/read_bytes.h"
#include "layout/run/run.h"

namespace operculum::layout {
namespace {

using Base = StaticType::Base;
using Arguments = std::vector<NodePtr>;

constexpr std::uint64_t kSearchReach = 1 << 20;  // bytes, when no end of a search is given

Value bytes_value(Run& run, Bytes bytes) {
  return run.keep(std::move(bytes), "computed");
}

// ---- numbers

Value least(Frame& frame, const Node&, const Arguments& given) {
  return Value::of(std::min(given[0]->number(frame), given[1]->number(frame)));
}
Value greatest(Frame& frame, const Node&, const Arguments& given) {
  return Value::of(std::max(given[0]->number(frame), given[1]->number(frame)));
}
Value aligned(Frame& frame, const Node& call, const Arguments& given) {
  std::int64_t number = given[0]->number(frame), step = given[1]->number(frame);
  if (step <= 0) call.fail(frame.run, fmt::format("align to a multiple of {}", step));
  std::int64_t over = ((number % step) + step) % step, sum = 0;
  if (__builtin_add_overflow(number, over == 0 ? 0 : step - over, &sum))
    call.fail(frame.run, "align leaves the range of 64-bit numbers");
  return Value::of(sum);
}
Value length(Frame& frame, const Node&, const Arguments& given) {
  if (given[0]->type().is_list())
    return Value::of(static_cast<std::int64_t>(frame.run.count(given[0]->value(frame))));
  if (given[0]->type().is(Base::text))
    return Value::of(static_cast<std::int64_t>(given[0]->text_of(frame).size()));
  return Value::of(static_cast<std::int64_t>(frame.run.length_of(given[0]->value(frame))));
}
Value number(Frame& frame, const Node& call, const Arguments& given) {
  std::string text = given[0]->text_of(frame);
  std::int64_t base = given.size() > 1 ? given[1]->number(frame) : 10;
  if (base != 2 && base != 8 && base != 10 && base != 16)
    call.fail(frame.run, fmt::format("numbers of base {}", base));
  auto value = parse_number(trim(text), static_cast<int>(base));
  if (!value) call.fail(frame.run, fmt::format("\"{}\" is no number", escape(text)));
  return Value::of(static_cast<std::int64_t>(*value));
}

// ---- bytes

Value zeros(Frame& frame, const Node& call, const Arguments& given) {
  std::uint64_t count = given[0]->size(frame, "a length");
  if (count > Run::kSmall) call.fail(frame.run, "more than 16 MiB of zeros");
  return bytes_value(frame.run, Bytes(static_cast<std::size_t>(count)));
}
template <unsigned Count, bool Big>
Value number_bytes(Frame& frame, const Node&, const Arguments& given) {
  auto value = static_cast<std::uint64_t>(given[0]->number(frame));
  Bytes bytes(Count);
  for (unsigned i = 0; i < Count; ++i) bytes[Big ? Count - 1 - i : i] = static_cast<Byte>(value >> (8 * i));
  return bytes_value(frame.run, std::move(bytes));
}
/// Bits from the lowest of each byte on, or from the highest; only the bytes that hold them are read.
Value bit_field(Frame& frame, const Node& call, const Arguments& given) {
  Run& run = frame.run;
  Value bytes = given[0]->value(frame);
  if (!bytes.there()) return {};
  std::uint64_t at = given[1]->size(frame, "a place"), width = given[2]->size(frame, "a width");
  std::string first = given.size() > 3 ? given[3]->text_of(frame) : "low";
  if (first != "low" && first != "high")
    call.fail(run, fmt::format("the first bit is \"low\" or \"high\", not \"{}\"", escape(first)));
  if (width < 1 || width > 56) call.fail(run, fmt::format("a field of {} bits; 1 to 56 are possible", width));
  Run::Piece piece = run.placed(bytes);
  if (at / 8 >= piece.length || (at + width + 7) / 8 > piece.length)
    call.fail(run, fmt::format("bits {} to {} are wanted of {} bytes", at, at + width - 1, piece.length));
  std::uint64_t count = (at % 8 + width + 7) / 8;
  ByteView held = run.region(piece.region).at(piece.offset + at / 8, count);
  run.mark(piece.region, piece.offset + at / 8, count, run.cover);
  bool high = first == "high";
  std::uint64_t value = load_number(held.data(), held.size(), high ? std::endian::big : std::endian::little);
  value >>= high ? count * 8 - at % 8 - width : at % 8;
  return Value::of(static_cast<std::int64_t>(value & ((std::uint64_t{1} << width) - 1)));
}
Value concat(Frame& frame, const Node&, const Arguments& given) {
  Bytes all;
  for (const NodePtr& one : given) {
    Bytes part = one->bytes(frame);
    all.insert(all.end(), part.begin(), part.end());
  }
  return bytes_value(frame.run, std::move(all));
}
Value unhex(Frame& frame, const Node& call, const Arguments& given) {
  std::string digits = given[0]->text_of(frame);
  std::erase(digits, ' ');
  auto bytes = from_hex(digits);
  if (!bytes) call.fail(frame.run, fmt::format("\"{}\" is not written in hexadecimal", escape(digits)));
  return bytes_value(frame.run, std::move(*bytes));
}
Value raw_of_text(Frame& frame, const Node& call, const Arguments& given) {
  std::string text = given[0]->text_of(frame);
  auto raw = given.size() > 1 ? from_utf8(text, given[1]->text_of(frame)) : std::optional(text);
  if (!raw) call.fail(frame.run, fmt::format("\"{}\" has characters that the encoding lacks", escape(text)));
  return bytes_value(frame.run, Bytes(raw->begin(), raw->end()));
}
Value name_hash(Frame& frame, const Node& call, const Arguments& given) {
  std::string name = given[0]->text_of(frame);
  const NameHash* hash = find_name_hash(name);
  if (hash == nullptr) {
    call.fail(frame.run,
              fmt::format("\"{}\" is no hash function; there are {}", escape(name), names_of_hashes()));
  }
  Bytes bytes = given[1]->bytes(frame);
  return Value::of(static_cast<std::int64_t>(hash->of(as_text(bytes))));
}
Value checksum(Frame& frame, const Node& call, const Arguments& given) {
  std::string name = given[0]->text_of(frame);
  const SumKind* kind = find_sum(name);
  if (kind == nullptr || !kind->number)
    call.fail(frame.run, fmt::format("\"{}\" is no checksum that gives a number", escape(name)));
  std::vector<std::int64_t> parameters;
  for (std::size_t i = 2; i < given.size(); ++i) parameters.push_back(given[i]->number(frame));
  if (parameters.size() > kind->parameters)
    call.fail(frame.run,
              fmt::format("{} takes {} parameters, found {}", name, kind->parameters, parameters.size()));
  auto sum = kind->make(parameters);
  sum->add(given[1]->bytes(frame));
  Bytes result = sum->finish();
  return Value::of(static_cast<std::int64_t>(load_number(result.data(), result.size(), std::endian::big)));
}
Value hex_of(Frame& frame, const Node&, const Arguments& given) {
  return frame.run.keep(to_hex(given[0]->bytes(frame)));
}
template <const char* Name>
Value digest(Frame& frame, const Node&, const Arguments& given) {
  auto sum = find_sum(Name)->make({});
  sum->add(given[0]->bytes(frame));
  return bytes_value(frame.run, sum->finish());
}
Value crc_of(Frame& frame, const Node&, const Arguments& given) {
  return Value::of(crc32(0, given[0]->bytes(frame)));
}
constexpr char kMd5[] = "md5", kSha1[] = "sha1", kSha256[] = "sha256";

// ---- texts

Value text_of_bytes(Frame& frame, const Node&, const Arguments& given) {
  Bytes bytes = given[0]->bytes(frame);
  std::string raw(as_text(bytes));
  if (given.size() < 2) return frame.run.keep(std::move(raw));
  auto decoded = to_utf8(raw, given[1]->text_of(frame));
  return frame.run.keep(decoded ? std::move(*decoded) : std::move(raw));
}
Value lower(Frame& frame, const Node&, const Arguments& given) {
  return frame.run.keep(to_lower(given[0]->text_of(frame)));
}
Value trimmed(Frame& frame, const Node&, const Arguments& given) {
  return frame.run.keep(std::string(trim(given[0]->text_of(frame))));
}
std::string replaced(std::string text, const std::string& from, const std::string& to) {
  std::string out;
  for (std::size_t at = 0; !from.empty();) {
    if (out.size() > Run::kSmall) throw LimitExceeded("replace would make a text of more than 16 MiB");
    std::size_t found = text.find(from, at);
    out += text.substr(at, found - at);
    if (found == std::string::npos) return out;
    out += to;
    at = found + from.size();
  }
  return text;
}
Value replace(Frame& frame, const Node&, const Arguments& given) {
  return frame.run.keep(
      replaced(given[0]->text_of(frame), given[1]->text_of(frame), given[2]->text_of(frame)));
}
Value slashes(Frame& frame, const Node&, const Arguments& given) {
  return frame.run.keep(replaced(given[0]->text_of(frame), "\\", "/"));
}
Value before(Frame& frame, const Node&, const Arguments& given) {
  std::string text = given[0]->text_of(frame);
  return frame.run.keep(text.substr(0, text.find(given[1]->text_of(frame))));
}
Value after(Frame& frame, const Node&, const Arguments& given) {
  std::string text = given[0]->text_of(frame), mark = given[1]->text_of(frame);
  std::size_t found = text.find(mark);
  return frame.run.keep(found == std::string::npos ? "" : text.substr(found + mark.size()));
}
Value starts_with_text(Frame& frame, const Node&, const Arguments& given) {
  Bytes text = given[0]->bytes(frame), start = given[1]->bytes(frame);
  return Value::truth(as_text(text).starts_with(as_text(start)));
}
Value ends_with_text(Frame& frame, const Node&, const Arguments& given) {
  Bytes text = given[0]->bytes(frame), end = given[1]->bytes(frame);
  return Value::truth(as_text(text).ends_with(as_text(end)));
}
Value ending(Frame& frame, const Node&, const Arguments& given) {
  Value bytes = given[0]->value(frame);
  if (!bytes.there()) return frame.run.keep("");
  return frame.run.keep(content_ending(frame.run, bytes));
}

// ---- searches

template <bool Last>
Value search(Frame& frame, const Node& call, const Arguments& given) {
  Run& run = frame.run;
  Bytes mark = given[0]->bytes(frame);
  if (mark.empty()) call.fail(run, "an empty mark is searched for");
  std::uint64_t size = run.region(0).size(), from = 0, to = size;
  if (given.size() > 1) from = given[1]->size(frame, "an offset");
  if (given.size() > 2) to = given[2]->size(frame, "an offset");
  if (given.size() < 3 && !Last) to = std::min(size, from + std::min(kSearchReach, UINT64_MAX - from));
  if (given.size() < 2 && Last) from = size - std::min(size, kSearchReach);
  auto found = (Last ? find_last_in : find_in)(run, 0, from, to, as_text(mark));
  return found ? Value::of(static_cast<std::int64_t>(*found)) : Value{};
}

// ---- files

Value file(Frame& frame, const Node&, const Arguments& given) {
  Run& run = frame.run;
  std::string name = given[0]->text_of(frame);
  auto region = name.find('/') == std::string::npos ? run.region_of_file(name) : std::nullopt;
  if (!region) {
    Blob blob;
    blob.missing =
        fmt::format("the file \"{}\" is wanted beside \"{}\"", escape(name), escape(run.input().name));
    return run.store().add(std::move(blob));
  }
  return Value::bytes(*region, 0, run.region(*region).size());
}
Value file_size(Frame& frame, const Node&, const Arguments&) {
  return Value::of(static_cast<std::int64_t>(frame.run.region(0).size()));
}
Value file_name(Frame& frame, const Node&, const Arguments&) {
  return frame.run.keep(frame.run.input().name);
}
Value stem_of_file(Frame& frame, const Node&, const Arguments&) {
  return frame.run.keep(std::string(file_stem(frame.run.input().name)));
}

// ---- times

Value time_value(const Timestamp& time) {
  if (!time.known()) return {};
  return {time.seconds, time.nanoseconds + (time.floating ? Value::kFloating : 0), 0, Value::Kind::time};
}
Value unix_time(Frame& frame, const Node&, const Arguments& given) {
  return time_value(from_unix(given[0]->number(frame)));
}
Value unix_milliseconds(Frame& frame, const Node&, const Arguments& given) {
  std::int64_t ms = given[0]->number(frame), rest = ((ms % 1000) + 1000) % 1000;
  return time_value(from_unix((ms - rest) / 1000, static_cast<std::uint32_t>(rest * 1'000'000)));
}
Value filetime(Frame& frame, const Node&, const Arguments& given) {
  return time_value(from_filetime(static_cast<std::uint64_t>(given[0]->number(frame))));
}
Value dos_time(Frame& frame, const Node&, const Arguments& given) {
  std::int64_t date = given[0]->number(frame), time = 0;
  if (given.size() > 1) {
    time = given[1]->number(frame);
  } else {
    time = date & 0xffff;
    date = date >> 16 & 0xffff;
  }
  return time_value(from_dos(static_cast<std::uint16_t>(date), static_cast<std::uint16_t>(time)));
}
/// Days from 1970-01-01 to a date of the Gregorian calendar (H. Hinnant's formula).
std::int64_t days_to(std::int64_t year, std::int64_t month, std::int64_t day) {
  year -= month <= 2 ? 1 : 0;
  std::int64_t era = (year >= 0 ? year : year - 399) / 400;
  std::int64_t of_era = year - era * 400;
  std::int64_t of_year = (153 * (month > 2 ? month - 3 : month + 9) + 2) / 5 + day - 1;
  return era * 146097 + of_era * 365 + of_era / 4 - of_era / 100 + of_year - 719468;
}
Value since(Frame& frame, const Node& call, const Arguments& given) {
  std::string date = given[0]->text_of(frame);
  auto parts = split(date, '-');
  auto part = [&](std::size_t i) { return i < parts.size() ? parse_number(parts[i]) : std::nullopt; };
  if (parts.size() != 3 || !part(0) || !part(1) || !part(2) || *part(0) > 9999 || *part(1) < 1 ||
      *part(1) > 12 || *part(2) < 1 || *part(2) > 31)
    call.fail(frame.run, fmt::format("\"{}\" is no date; write one as \"1904-01-01\"", escape(date)));
  std::int64_t start = days_to(static_cast<std::int64_t>(*part(0)), static_cast<std::int64_t>(*part(1)),
                               static_cast<std::int64_t>(*part(2))) *
                       86400;
  std::int64_t seconds = 0;
  if (__builtin_add_overflow(start, given[1]->number(frame), &seconds)) return {};
  return time_value(from_unix(seconds));
}

constexpr Function kFunctions[] = {
    {"min", "nn", Base::number, "the smaller of two numbers", least},
    {"max", "nn", Base::number, "the greater of two numbers", greatest},
    {"align", "nn", Base::number, "the first multiple of the second number that is not below the first",
     aligned},
    {"length", "B", Base::number, "how many bytes; of a list: how many elements", length},
    {"number", "tn?", Base::number, "the number that a text holds, in a base (10 unless given)", number},
    {"zeros", "n", Base::bytes, "so many zero bytes", zeros},
    {"le16", "n", Base::bytes, "a number as two bytes, low byte first", number_bytes<2, false>},
    {"le32", "n", Base::bytes, "as four", number_bytes<4, false>},
    {"le64", "n", Base::bytes, "as eight", number_bytes<8, false>},
    {"be16", "n", Base::bytes, "a number as two bytes, high byte first", number_bytes<2, true>},
    {"be32", "n", Base::bytes, "as four", number_bytes<4, true>},
    {"be64", "n", Base::bytes, "as eight", number_bytes<8, true>},
    {"concat", "BB?B?B?B?B?", Base::bytes, "two to six runs of bytes, one after another", concat},
    {"bit_field", "bnnt?", Base::number,
     "so many bits of bytes from a bit on, counted from the lowest bit of each byte, or from the highest "
     "with "
     "\"high\"",
     bit_field},
    {"unhex", "t", Base::bytes, "the bytes that hexadecimal digits tell; blanks are passed over", unhex},
    {"hex", "B", Base::text, "bytes as hexadecimal digits", hex_of},
    {"raw", "tt?", Base::bytes, "the bytes of a text, in an encoding when one is given", raw_of_text},
    {"hash", "tB", Base::number, "a hash of names, by its name: those of known()", name_hash},
    {"checksum", "tBn?n?n?n?", Base::number,
     "a checksum by its name, with its parameters: those of check that give a number", checksum},
    {"crc32", "B", Base::number, "the CRC-32 of ISO 3309", crc_of},
    {"md5", "B", Base::bytes, "the MD5 digest", digest<kMd5>},
    {"sha1", "B", Base::bytes, "the SHA-1 digest", digest<kSha1>},
    {"sha256", "B", Base::bytes, "the SHA-256 digest", digest<kSha256>},
    {"text", "Bt?", Base::text, "bytes as text, in an encoding when one is given", text_of_bytes},
    {"lower", "t", Base::text, "with small letters (ASCII)", lower},
    {"trim", "t", Base::text, "without blanks at its ends", trimmed},
    {"replace", "ttt", Base::text, "each second text in the first replaced by the third", replace},
    {"slashes", "t", Base::text, "with / for each \\", slashes},
    {"before", "tt", Base::text,
     "what stands before the second text in the first; all of it when there is none", before},
    {"after", "tt", Base::text, "what stands behind the second text in the first; nothing when there is none",
     after},
    {"starts", "BB", Base::truth, "whether the first begins with the second", starts_with_text},
    {"ends", "BB", Base::truth, "whether the first ends with the second", ends_with_text},
    {"ending", "b", Base::text,
     "a name ending such as .png, chosen by what the bytes are; .bin when nothing is known", ending},
    {"find", "Bn?n?", Base::number,
     "the offset in the file where a mark stands, searched from an offset (0) to another (1 MiB on); nothing "
     "when it is not there",
     search<false>},
    {"find_last", "Bn?n?", Base::number,
     "the same backwards, from the end of the file, 1 MiB at most unless an offset is given", search<true>},
    {"file", "t", Base::bytes, "the file of that name beside this one", file},
    {"file_size", "", Base::number, "how many bytes this file has; written without brackets, as the next two",
     file_size},
    {"file_name", "", Base::text, "the name of this file", file_name},
    {"file_stem", "", Base::text, "the same without its ending", stem_of_file},
    {"unix", "n", Base::time, "seconds since 1970-01-01 UTC", unix_time},
    {"unix_ms", "n", Base::time, "milliseconds since 1970-01-01 UTC", unix_milliseconds},
    {"filetime", "n", Base::time, "steps of 100 ns since 1601-01-01 UTC", filetime},
    {"dos", "nn?", Base::time,
     "MS-DOS date and time: two 16-bit words, or one of 32 bits with the date in its upper half", dos_time},
    {"since", "tn", Base::time, "seconds since a date such as \"1904-01-01\"", since},
};

}  // namespace

std::span<const Function> built_in_functions() {
  return kFunctions;
}

const Function* find_function(std::string_view name) {
  auto found = std::find_if(std::begin(kFunctions), std::end(kFunctions),
                            [&](const Function& one) { return one.name == name; });
  return found == std::end(kFunctions) ? nullptr : found;
}

}  // namespace operculum::layout
