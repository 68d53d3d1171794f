#include "format/firmware/firmware_parts.h"

#include <fmt/format.h>

#include <algorithm>
#include <unordered_map>

#include "base/error.h"
#include "base/text.h"
#include "base/units.h"
#include "container/trim.h"

namespace operculum {
namespace {

class FirmwareContainer final : public Container {
 public:
  FirmwareContainer(SourcePtr bytes, Firmware firmware)
      : bytes_(std::move(bytes)),
        parts_(std::move(firmware.parts)),
        facts_(std::move(firmware.facts)),
        filled_from_(firmware.filled_from),
        text_(std::move(firmware.text)),
        writes_(std::move(firmware.writes)) {
    for (Finding& finding : firmware.findings)
      add_finding(finding.level, std::move(finding.text), finding.about);
    entries_.reserve(parts_.size());
    for (FirmwarePart& part : parts_) add_entry(part);
  }

  std::span<const Entry> entries() override { return entries_; }

  ContentPtr content(std::size_t index) override {
    const FirmwarePart& part = parts_[index];
    ContentPtr data = part.open ? part.open() : stored_bytes(part);
    return has_sum(part) ? make_checked(std::move(data), part.expected) : data;
  }

  SourcePtr stored(std::size_t index) override {
    const FirmwarePart& part = parts_[index];
    bool lies_there = part.kind == EntryKind::file && part.size != Entry::kUnknownSize;
    return lies_there ? make_slice(bytes_, part.at, part.size) : nullptr;
  }

  std::vector<Footprint> footprint(std::size_t index) override {
    return parts_[index].scattered.empty() ? Container::footprint(index) : parts_[index].scattered;
  }

  Facts facts() override { return facts_; }

  std::optional<Trimmed> trimmed(Look look) override {
    return filled_from_ ? without_end(bytes_, *filled_from_, 1, look) : std::nullopt;
  }

  bool installs() const override { return !writes_.empty(); }
  std::optional<Installation> installation() override {
    return writes_.empty() ? std::nullopt : std::optional(Installation{.about = facts_, .writes = writes_});
  }

  std::optional<std::string> text() override {
    if (!text_.empty()) return text_;
    std::string out;
    for (const auto& [name, value] : facts_) out += fmt::format("{}: {}\n", name, printable(value));
    return out.empty() ? std::nullopt : std::optional(out);
  }

 private:
  static bool has_sum(const FirmwarePart& part) {
    return part.expected.crc32.has_value() || !part.expected.sum.empty();
  }

  ContentPtr stored_bytes(const FirmwarePart& part) const {
    if (part.at > bytes_->size() || part.size > bytes_->size() - part.at)
      throw CutShort(fmt::format("{} at offset {}: {} bytes are expected, the file ends after {}",
                                 escape(part.path), part.at, part.size,
                                 bytes_->size() - std::min(part.at, bytes_->size())));
    return make_content(make_slice(bytes_, part.at, part.size));
  }

  void add_entry(FirmwarePart& part) {
    if (std::uint64_t same = taken_[part.path]++; same > 0 && part.kind == EntryKind::file)
      part.path += fmt::format(".{}", same + 1);
    Entry entry;
    entry.path = part.path;
    entry.kind = part.kind;
    entry.stored_at = part.at;
    if (part.kind == EntryKind::folder && part.size > 0) entry.stored_size = part.size;
    if (part.kind == EntryKind::file) {
      entry.stored_size = part.size;
      entry.size = part.open ? part.unpacked : part.size;
      if (!part.open && (part.at > bytes_->size() || part.size > bytes_->size() - part.at))
        add_finding(Finding::Level::fault,
                    fmt::format("{} goes from offset {} to {}, but the file ends at {}: it is cut short",
                                escape(part.path), part.at, part.at + part.size, bytes_->size()),
                    Finding::About::entries);
    }
    entry.method = part.method;
    entry.modified = part.modified;
    if (part.encrypted) entry.flags |= Entry::encrypted;
    if (part.expected.crc32) {
      entry.flags |= Entry::has_crc;
      entry.crc32 = *part.expected.crc32;
    } else if (has_sum(part) || part.checked) {
      entry.flags |= Entry::has_sum;
    }
    if (!part.type.empty()) entry.extras().type_tag = part.type;
    if (!part.comment.empty()) entry.extras().comment = part.comment;
    entries_.push_back(std::move(entry));
  }

  SourcePtr bytes_;
  std::vector<FirmwarePart> parts_;
  Facts facts_;
  std::optional<std::uint64_t> filled_from_;
  std::string text_;
  std::vector<MemoryWrite> writes_;
  std::vector<Entry> entries_;
  std::unordered_map<std::string, std::uint64_t> taken_;
};

}  // namespace

ContainerPtr make_firmware(SourcePtr bytes, Firmware firmware) {
  return std::make_shared<FirmwareContainer>(std::move(bytes), std::move(firmware));
}

void add_what_is_behind(const Source& bytes, std::uint64_t end, Firmware& out) {
  if (end >= bytes.size()) return;
  std::uint64_t size = bytes.size() - end;
  if (is_filling(bytes, end, bytes.size())) {
    out.filled_from = end;
    out.note(fmt::format("{} bytes of filling follow", grouped(size)));
  } else {
    out.parts.push_back({.path = "behind", .type = "what follows", .at = end, .size = size});
  }
}

std::string field_text(ByteView field) {
  std::string_view text = as_text(field);
  return std::string(trim(until_zero(text)));
}

std::string part_name(std::string_view said, std::string_view otherwise) {
  std::string name;
  for (char c : said) {
    bool stays = (c >= '0' && c <= '9') || (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || c == '-' ||
                 c == '_' || c == '.';
    if (stays || (!name.empty() && name.back() != '-')) name += stays ? c : '-';
  }
  while (!name.empty() && name.back() == '-') name.pop_back();
  return name.empty() || name == "." || name == ".." ? std::string(otherwise) : name;
}

std::string as_path_part(std::string name) {
  std::replace(name.begin(), name.end(), '/', '_');
  return name.empty() || name == "." || name == ".." ? "unnamed" : name;
}

std::string name_in(std::span<const NamedNumber> table, std::uint64_t number, std::string_view what) {
  for (const NamedNumber& one : table) {
    if (one.number == number) return std::string(one.name);
  }
  return fmt::format("{} {}", what, number);
}

std::string hex_number(std::uint64_t value) {
  return fmt::format("{:#x}", value);
}

void add_range(std::vector<Footprint>& ranges, Footprint next) {
  if (!ranges.empty() && ranges.back().at + ranges.back().size == next.at) {
    ranges.back().size += next.size;
  } else {
    ranges.push_back(next);
  }
}

}  // namespace operculum
