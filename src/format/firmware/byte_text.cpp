// Bytes written as text, as programmers of chips take them: Intel HEX (Hexadecimal Object File Format
// Specification, revision A, 1988), Motorola S-records (M68000 Family Programmer's Reference, appendix C),
// TI-TXT (MSP430 documentation: "@address", bytes, "q" at the end) and Verilog hex files (IEEE 1364-2005,
// section 17.2.9:
// "@address", words, comments).
#include <fmt/format.h>

#include "base/error.h"
#include "base/text.h"
#include "format/firmware/firmware_parts.h"
#include "format/firmware/formats.h"
#include "format/firmware/memory_image.h"
#include "io/input_buffer.h"

namespace operculum {
namespace {

constexpr std::size_t kLongestLine = 64 << 10;  // bytes
constexpr std::size_t kToldFaults = 20;
constexpr std::string_view kImage = "image.bin";

/// Reads lines of one of the forms into an image.
class LineReader {
 public:
  virtual ~LineReader() = default;
  /// Takes a line that is not empty; false at the line that ends the file. Throws Malformed.
  virtual bool take(std::string_view line, MemoryFile& out) = 0;
  virtual bool wants_end() const { return true; }  ///< a line that ends the file is still missing
};

Bytes digits_of(std::string_view text) {
  auto bytes = from_hex(text);
  if (!bytes) throw Malformed("it has something else than pairs of hexadecimal digits");
  return std::move(*bytes);
}

void check_sum(unsigned found, unsigned expected) {
  if ((found & 0xFF) != expected)
    throw Malformed(fmt::format("its checksum is {:02x}, it should be {:02x}", expected, found & 0xFF));
}

std::uint64_t number_of(ByteView bytes) {
  std::uint64_t value = 0;
  for (Byte b : bytes) value = value << 8 | b;
  return value;
}

unsigned sum_of(ByteView bytes) {
  unsigned sum = 0;
  for (Byte b : bytes) sum += b;
  return sum;
}

// ---- Intel HEX

class IntelHex final : public LineReader {
 public:
  bool take(std::string_view line, MemoryFile& out) override {
    if (line[0] != ':') throw Malformed("it does not begin with a colon");
    Bytes raw = digits_of(line.substr(1));
    if (raw.size() < 5 || raw.size() != raw[0] + std::size_t{5})
      throw Malformed(fmt::format("its length of {} bytes is not what it states", raw.size()));
    check_sum(0x100 - (sum_of(ByteView(raw).first(raw.size() - 1)) & 0xFF), raw.back());
    ByteView data = ByteView(raw).subspan(4, raw[0]);
    std::uint64_t address = number_of(ByteView(raw).subspan(1, 2));
    switch (raw[3]) {
      case 0:
        add(address, data, out);
        break;
      case 1:
        return false;
      case 2:
        set_base(data, 2, 4, true);
        break;
      case 4:
        set_base(data, 2, 16, false);
        break;
      case 3:
        out.facts.emplace_back("start", fmt::format("{:04x}:{:04x}", number_of(data.first(data.size() / 2)),
                                                    number_of(data.last(data.size() / 2))));
        break;
      case 5:
        out.facts.emplace_back("start", hex_number(number_of(data)));
        break;
      default:
        throw Malformed(fmt::format("its record kind is {}, known are 0 to 5", raw[3]));
    }
    return true;
  }

 private:
  void set_base(ByteView data, std::size_t size, unsigned shift, bool segment) {
    if (data.size() != size) throw Malformed("its address has another length than 2 bytes");
    base_ = number_of(data) << shift;
    segment_ = segment;
  }
  /// Within a segment, addresses begin again behind 64 KiB.
  void add(std::uint64_t address, ByteView data, MemoryFile& out) {
    MemoryImage& image = out.images[std::string(kImage)];
    std::size_t before_wrap =
        static_cast<std::size_t>(std::min<std::uint64_t>(data.size(), 0x10000 - address));
    image.add(base_ + address, segment_ ? data.first(before_wrap) : data);
    if (segment_) image.add(base_, data.subspan(before_wrap));
  }
  std::uint64_t base_ = 0;
  bool segment_ = false;
};

// ---- S-records

class SRecords final : public LineReader {
 public:
  bool take(std::string_view line, MemoryFile& out) override {
    if (line.size() < 4 || line[0] != 'S' || line[1] < '0' || line[1] > '9')
      throw Malformed("it does not begin with S and a digit");
    int kind = line[1] - '0';
    Bytes raw = digits_of(line.substr(2));
    if (raw.size() != raw[0] + std::size_t{1})
      throw Malformed(fmt::format("its length of {} bytes is not what it states", raw.size()));
    check_sum(0xFF - (sum_of(ByteView(raw).first(raw.size() - 1)) & 0xFF), raw.back());
    constexpr std::size_t kAddress[] = {2, 2, 3, 4, 0, 2, 3, 4, 3, 2};
    std::size_t width = kAddress[kind];
    if (width == 0) throw Malformed("its kind is S4, which is not used");
    if (raw.size() < width + 2) throw Malformed("it is too short for its address");
    std::uint64_t number = number_of(ByteView(raw).subspan(1, width));
    ByteView data = ByteView(raw).subspan(1 + width, raw.size() - width - 2);
    if (kind == 0) {
      if (!data.empty()) out.facts.emplace_back("name", std::string(as_text(data)));
    } else if (kind <= 3) {
      out.images[std::string(kImage)].add(number, data);
      ++records_;
    } else if (kind <= 6) {
      if (number != records_)
        throw Malformed(fmt::format("it counts {} records, there are {}", number, records_));
      counted_ = true;
    } else {
      if (number != 0) out.facts.emplace_back("start", hex_number(number));
      return false;
    }
    return true;
  }
  bool wants_end() const override { return !counted_; }

 private:
  std::uint64_t records_ = 0;
  bool counted_ = false;
};

// ---- with addresses of their own: TI-TXT and Verilog

class AddressedBytes final : public LineReader {
 public:
  explicit AddressedBytes(bool ti) : ti_(ti) {}

  bool take(std::string_view line, MemoryFile& out) override {
    if (ti_ && (line == "q" || line == "Q")) return false;
    line = without_comments(line);
    for (std::string_view word : split(line, ' ')) {
      word = trim(word);
      if (!word.empty()) take_word(word, out);
    }
    return true;
  }
  bool wants_end() const override { return ti_; }

 private:
  std::string_view without_comments(std::string_view line) {
    if (ti_) return line;
    if (in_comment_) {
      std::size_t end = line.find("*/");
      if (end == std::string_view::npos) return "";
      in_comment_ = false;
      line = line.substr(end + 2);
    }
    if (std::size_t begin = line.find("/*"); begin != std::string_view::npos) {
      in_comment_ = line.find("*/", begin + 2) == std::string_view::npos;
      line = line.substr(0, begin);
    }
    return line.substr(0, line.find("//"));
  }

  void take_word(std::string_view word, MemoryFile& out) {
    if (word[0] == '@') {
      auto address = parse_number(word.substr(1), 16);
      if (!address || *address > UINT32_MAX * std::uint64_t{16})
        throw Malformed("its address is no hexadecimal number");
      address_ = *address;
      return;
    }
    std::string digits(word);
    std::erase(digits, '_');
    Bytes bytes = digits_of(digits);
    if (ti_ && bytes.size() != 1) throw Malformed("it has something else than bytes");
    if (width_ == 0) width_ = bytes.size();
    if (bytes.size() > width_)
      throw Malformed(fmt::format("it has words of {} and of {} bytes", width_, bytes.size()));
    // Addresses count words (IEEE 1364); which byte of a word comes first, the file does not say.
    out.images[std::string(kImage)].add(address_ * width_, bytes);
    ++address_;
    if (width_ > 1 && !told_) {
      told_ = true;
      out.findings.push_back(
          {Finding::Level::note,
           fmt::format("words of {} bytes, written here as they stand: highest byte first", width_)});
    }
  }

  bool ti_, in_comment_ = false, told_ = false;
  std::uint64_t address_ = 0;
  std::size_t width_ = 0;
};

// ---- what they have in common

/// Calls `take` for each line that is not empty, until it returns false.
template <typename Take>
void each_line(std::string_view text, const Take& take) {
  while (!text.empty()) {
    std::size_t end = std::min(text.find('\n'), text.size());
    std::string_view line = trim(text.substr(0, end));
    text.remove_prefix(std::min(end + 1, text.size()));
    if (!line.empty() && !take(line)) return;
  }
}

/// Collects what the lines of a file say, one after another.
class Lines {
 public:
  explicit Lines(LineReader& reader) : reader_(reader) {}

  /// False when no more lines are wanted.
  bool take(std::string_view line) {
    ++number_;
    line = trim(line);
    if (line.empty()) return true;
    if (ended_) {
      out_.findings.push_back(
          {Finding::Level::note,
           fmt::format("line {}: something follows the line that ends the file", number_)});
      return false;
    }
    try {
      ended_ = !reader_.take(line, out_);
    } catch (const Malformed& error) {
      if (++faults_ <= kToldFaults)
        out_.findings.push_back({Finding::Level::fault, fmt::format("line {}: {}", number_, error.what())});
    }
    return true;
  }

  MemoryFile finish() {
    if (faults_ > kToldFaults)
      out_.findings.push_back(
          {Finding::Level::fault, fmt::format("{} more lines are damaged", faults_ - kToldFaults)});
    if (!ended_ && reader_.wants_end())
      out_.incomplete = "the line that ends the file is missing; it is cut short";
    return std::move(out_);
  }

 private:
  LineReader& reader_;
  MemoryFile out_;
  std::size_t number_ = 0, faults_ = 0;
  bool ended_ = false;
};

/// Reads a file by its lines; one that is longer than any form has is handed on in pieces, and is damaged
/// then.
MemoryFile read_lines(Stream& stream, LineReader& reader) {
  InputBuffer input(make_borrowed(stream));
  Lines lines(reader);
  for (;;) {
    std::string_view view = as_text(input.view());
    if (view.find('\n') == std::string_view::npos) view = as_text(input.ensure(kLongestLine));
    if (view.empty()) break;
    std::size_t end = view.find('\n'), taken = std::min(end, view.size());
    if (!lines.take(view.substr(0, std::min(taken, kLongestLine)))) break;
    input.consume(end == std::string_view::npos ? view.size() : end + 1);
  }
  return lines.finish();
}

/// How sure the first lines of a file have to be.
enum class First {
  mostly,  ///< of lines with checksums one in four may be damaged
  all,     ///< where there are none, every line has to be of the form
};

/// Whether the first lines of the front are of this form, and hold some bytes.
bool begins_as(Probe& probe, LineReader& reader, First first) {
  constexpr std::size_t kLines = 8;
  std::string_view text = as_text(probe.head(4096));
  if (text.find('\0') != std::string_view::npos) return false;
  bool cut = text.size() == 4096;
  std::size_t sound = 0, damaged = 0;
  MemoryFile out;
  each_line(cut ? text.substr(0, text.rfind('\n') + 1) : text, [&](std::string_view line) {
    bool goes_on = true;
    try {
      goes_on = reader.take(line, out);
      ++sound;
    } catch (const Error&) {
      ++damaged;
    }
    return goes_on && (first == First::all ? damaged == 0 : sound + damaged < kLines);
  });
  return !out.images.empty() && damaged * 3 <= sound && (first == First::mostly || damaged == 0);
}

template <typename Reader, typename... How>
ContainerPtr open_text(const Input& input, OpenContext& context, How... how) {
  Reader reader(how...);
  return make_memory_file(read_lines(*input.content->stream(), reader), context);
}

Match recognise_intel(Probe& probe) {
  if (!starts_with(probe.head(1), ":")) return Match::none;
  IntelHex reader;
  return begins_as(probe, reader, First::mostly) ? Match::front : Match::none;
}

Match recognise_s_records(Probe& probe) {
  if (!starts_with(probe.head(1), "S")) return Match::none;
  SRecords reader;
  return begins_as(probe, reader, First::mostly) ? Match::front : Match::none;
}

/// "@" and digits in the first line; the end tells which of the two it is.
Match recognise_addressed(Probe& probe, bool ti) {
  std::string_view head = as_text(probe.head(4096));
  bool comment = !ti && (head.starts_with("//") || head.starts_with("/*"));
  if (!head.starts_with("@") && !comment) return Match::none;
  std::string_view end = trim(as_text(probe.tail(64)));
  bool ends_ti = end.ends_with("\nq") || end.ends_with("\nQ");
  if (ti != ends_ti) return Match::none;
  AddressedBytes reader(ti);
  if (!begins_as(probe, reader, First::all)) return Match::none;
  return head.find('@') != std::string_view::npos ? Match::front : Match::weak;
}

}  // namespace

Format intel_hex_format() {
  return {.id = "intel-hex",
          .name = "Intel HEX file",
          .family = "firmware",
          .specification = "Hexadecimal Object File Format Specification, revision A",
          .reads =
              "all record kinds, checksums, start addresses; gaps are holes; view \"ranges\": each range by "
              "itself",
          .lacks = "",
          .suffixes = {".hex", ".ihex", ".ihx"},
          .views = {kRangesView},
          .recognise = recognise_intel,
          .open = open_text<IntelHex>};
}

Format s_record_format() {
  return {.id = "s-record",
          .name = "S-record file",
          .family = "firmware",
          .specification = "M68000 Family Programmer's Reference, appendix C",
          .reads = "S0 to S9, checksums, counts, start addresses; gaps are holes; view \"ranges\"",
          .lacks = "",
          .suffixes = {".srec", ".s19", ".s28", ".s37", ".mot", ".sx"},
          .views = {kRangesView},
          .recognise = recognise_s_records,
          .open = open_text<SRecords>};
}

Format ti_text_format() {
  return {.id = "ti-txt",
          .name = "TI-TXT file",
          .family = "firmware",
          .specification = "MSP430 documentation (SLAU131), TI-TXT object format",
          .reads = "all ranges; gaps are holes; view \"ranges\"",
          .lacks = "",
          .suffixes = {".titxt"},
          .views = {kRangesView},
          .recognise = [](Probe& probe) { return recognise_addressed(probe, true); },
          .open = [](const Input& input,
                     OpenContext& context) { return open_text<AddressedBytes>(input, context, true); }};
}

Format verilog_hex_format() {
  return {.id = "verilog-hex",
          .name = "Verilog hex file",
          .family = "firmware",
          .specification = "IEEE 1364-2005, section 17.2.9",
          .reads = "addresses, words of any width, comments; gaps are holes; view \"ranges\"",
          .lacks = "digits x and z",
          .suffixes = {".vmem"},
          .views = {kRangesView},
          .recognise = [](Probe& probe) { return recognise_addressed(probe, false); },
          .open = [](const Input& input,
                     OpenContext& context) { return open_text<AddressedBytes>(input, context, false); }};
}

}  // namespace operculum
