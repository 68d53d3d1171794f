// Firmware volumes (UEFI Platform Initialization specification 1.8, volume 3): a header with a map of blocks,
// files at multiples of 8 bytes, in most files sections at multiples of 4 bytes, some of which hold other
// sections, packed or signed, or a volume again.
#include "format/firmware/uefi_image.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <mutex>
#include <unordered_set>

#include "base/checksum.h"
#include "base/depth_guard.h"
#include "base/error.h"
#include "base/parallel.h"
#include "base/text.h"
#include "format/firmware/uefi_names.h"
#include "format/firmware/uefi_records.h"
#include "format/firmware/uefi_sections.h"
#include "format/firmware/uefi_te.h"
#include "format/firmware/uefi_variables.h"
#include "io/filling.h"

namespace operculum::uefi {
namespace {

constexpr int kDeepest = 24;
constexpr std::size_t kMostParts = 1'000'000, kMostFiles = 100'000, kMostSections = 100'000;
constexpr std::uint64_t kMostUnpacked = std::uint64_t{4} << 30;  // bytes out of all packed sections
constexpr std::uint64_t kStep = 4096, kBlock = 1 << 20;

std::uint64_t rounded(std::uint64_t value, std::uint64_t to) {
  return (value + to - 1) / to * to;
}

Byte sum8(ByteView bytes) {
  unsigned sum = 0;
  for (Byte b : bytes) sum += b;
  return static_cast<Byte>(sum);
}

std::optional<VolumeHeader> volume_at(const Source& bytes, std::uint64_t at) {
  Bytes raw = read_up_to(bytes, at, kVolumeHeader);
  if (raw.size() < kVolumeHeader) return std::nullopt;
  auto header = read_structure<VolumeHeader>(raw.data());
  bool fits = header.Signature == kSignature && header.HeaderLength >= kVolumeHeader &&
              header.HeaderLength % 2 == 0 && header.HeaderLength <= kLongestHeader &&
              header.FvLength >= header.HeaderLength;
  if (!fits) return std::nullopt;
  Bytes all = read_up_to(bytes, at, header.HeaderLength);
  std::uint16_t sum = 0;
  for (std::size_t i = 0; i + 2 <= all.size(); i += 2)
    sum = static_cast<std::uint16_t>(sum + load_little<std::uint16_t>(all.data() + i));
  return all.size() == header.HeaderLength && sum == 0 ? std::optional(header) : std::nullopt;
}

/// Some bytes of the image, or what came out of a packed part of it.
struct Area {
  SourcePtr bytes;
  std::uint64_t file_at = 0;           ///< where they, or the packed part, lie in the file
  std::string_view method = "stored";  ///< how they were packed
  bool as_it_lies() const { return method == "stored"; }
};

/// Packed sections of the file itself that were unpacked side by side, by where they begin.
using Ready = std::map<std::uint64_t, Unwrapped>;

class Builder {
 public:
  Builder(OpenContext& context, Firmware& out, Ready ready)
      : context_(context), out_(out), ready_(std::move(ready)) {}
  /// One that only notes which sections are packed, and unpacks none.
  Builder(OpenContext& context, Firmware& out, std::vector<Section>& packed)
      : context_(context), out_(out), noted_(&packed) {}

  void region(const Area& area, std::uint64_t begin, std::uint64_t size, const std::string& folder) {
    DepthGuard guard(depth_, kDeepest,
                     [] { throw LimitExceeded("firmware: volumes too deep within each other"); });
    std::uint64_t end = begin + size, done = begin;
    for (std::uint64_t at = next_volume(*area.bytes, begin, end); at < end;
         at = next_volume(*area.bytes, at, end)) {
      between(area, done, at, folder);
      auto header = volume_at(*area.bytes, at);
      std::uint64_t length = std::min(header->FvLength, end - at);
      if (length < header->FvLength)
        out_.fault(fmt::format("the volume at offset {:#x} states {} bytes, {} are there: it is cut short",
                               area.file_at + at, header->FvLength, length));
      volume(area, at, length, *header, folder);
      done = at = at + length;
    }
    between(area, done, end, folder);
  }

 private:
  /// The next volume at a multiple of a page, or right at the beginning.
  std::uint64_t next_volume(const Source& bytes, std::uint64_t at, std::uint64_t end) {
    if (at < end && volume_at(bytes, at)) return at;
    for (at = rounded(at + 1, kStep); at < end;) {
      Bytes block = read_up_to(bytes, at, std::min(kBlock, end - at));
      for (std::size_t i = 0; i + kVolumeHeader <= block.size(); i += kStep) {
        if (load_little<std::uint32_t>(block.data() + i + 40) == kSignature && volume_at(bytes, at + i))
          return at + i;
      }
      if (block.empty()) break;
      at += rounded(block.size(), kStep);
    }
    return end;
  }

  /// Bytes that no volume holds.
  void between(const Area& area, std::uint64_t begin, std::uint64_t end, const std::string& folder) {
    if (begin >= end || is_filling(*area.bytes, begin, end)) return;
    if (variables(area, begin, folder)) return;
    add(area, folder + fmt::format("raw-{:08x}.bin", begin), "outside of volumes", begin, end - begin);
  }

  void add(const Area& area, std::string path, std::string type, std::uint64_t at, std::uint64_t size,
           std::string comment = "") {
    count_part();
    FirmwarePart part{.path = std::move(path),
                      .type = std::move(type),
                      .at = area.file_at,
                      .size = size,
                      .comment = std::move(comment)};
    if (area.as_it_lies()) {
      part.at += at;
    } else {
      part.size = Entry::kUnknownSize;
      part.method = area.method;
      part.unpacked = std::min(size, area.bytes->size() - std::min(at, area.bytes->size()));
      part.open = [bytes = area.bytes, at, size] { return make_content(make_slice(bytes, at, size)); };
    }
    out_.parts.push_back(std::move(part));
  }

  void add_made(const Area& area, std::string path, std::string type, Bytes made) {
    FirmwarePart part{.path = std::move(path),
                      .type = std::move(type),
                      .at = area.file_at,
                      .size = Entry::kUnknownSize,
                      .method = "made"};
    part.unpacked = made.size();
    part.open = [source = make_memory_source(std::move(made))] { return make_content(source); };
    out_.parts.push_back(std::move(part));
  }

  /// `at` and `size` say where it lies, where that is in the file itself.
  std::size_t add_folder(const Area& area, std::string path, std::string type, std::string comment,
                         std::uint64_t at, std::uint64_t size) {
    count_part();
    out_.parts.push_back({.path = std::move(path),
                          .type = std::move(type),
                          .at = area.as_it_lies() ? area.file_at + at : area.file_at,
                          .size = area.as_it_lies() ? size : 0,
                          .comment = std::move(comment),
                          .kind = EntryKind::folder});
    return out_.parts.size() - 1;
  }

  void count_part() const {
    if (out_.parts.size() >= kMostParts) throw LimitExceeded("firmware: more than a million parts");
  }

  // ---- volumes

  void volume(const Area& area, std::uint64_t at, std::uint64_t length, const VolumeHeader& header,
              const std::string& folder) {
    std::uint64_t data = at + header.HeaderLength;
    std::string name = fmt::format("volume-{:08x}", at), comment = name_or_text(header.FileSystemGuid);
    constexpr std::size_t kExtHeader = size_on_disk<ExtHeader>;
    if (header.ExtHeaderOffset != 0 && header.ExtHeaderOffset + kExtHeader <= length) {
      Bytes raw = read_up_to(*area.bytes, at + header.ExtHeaderOffset, kExtHeader);
      if (raw.size() == kExtHeader) {
        auto own = read_structure<ExtHeader>(raw.data());
        comment = fmt::format("{}, {}", name_or_text(own.FvName), comment);
        data = std::max(data, at + header.ExtHeaderOffset + own.ExtHeaderSize);
      }
    }
    std::string path = folder + name;
    add_folder(area, path, "firmware volume", comment, at, length);
    data = rounded(data - at, 8) + at;
    if (is(header.FileSystemGuid, "8c8ce578-8a3d-4f1c-9935-896185c32dd3") ||
        is(header.FileSystemGuid, "5473c07a-3dcb-4dca-bd6f-1e9689e7349a") ||
        is(header.FileSystemGuid, "7a9354d9-0468-444a-81ce-0bf617d890df")) {
      files(area, at, data, at + length, (header.Attributes & kErasePolarity) != 0 ? 0xFF : 0, path + "/");
    } else if (data < at + length && !variables(area, data, path + "/")) {
      add(area, path + "/data.bin", "data of a volume", data, at + length - data);
    }
  }

  void files(const Area& area, std::uint64_t volume, std::uint64_t at, std::uint64_t end, Byte erased,
             const std::string& folder) {
    for (std::size_t count = 0; at + kFileHeader <= end && count < kMostFiles; ++count) {
      Bytes raw = read_up_to(*area.bytes, at, kLargeFileHeader);
      if (raw.size() < kFileHeader) return;
      if (std::all_of(raw.begin(), raw.begin() + kFileHeader, [&](Byte b) { return b == erased; })) break;
      auto header = read_structure<FileHeader>(raw.data());
      bool large = (header.Attributes & kLargeFile) != 0 && raw.size() == kLargeFileHeader;
      std::size_t head = large ? kLargeFileHeader : kFileHeader;
      std::uint64_t size = large ? load_little<std::uint64_t>(raw.data() + kFileHeader) : header.Size;
      Bytes summed(raw.begin(), raw.begin() + static_cast<std::ptrdiff_t>(head));
      summed[17] = 0;  // neither the file's sum nor its state is part of the header's
      summed[23] = 0;
      if (sum8(summed) != 0 || size < head || size > end - at) {
        out_.fault(fmt::format(
            "the file header at offset {:#x} is damaged: expected a sum of 0 and at most {} bytes, "
            "found {} and {}; the rest of the volume is shown as it is",
            area.file_at + at, end - at, sum8(summed), size));
        add(area, folder + fmt::format("rest-{:08x}.bin", at - volume), "behind a damaged header", at,
            end - at);
        return;
      }
      file(area, at, head, size, header, folder);
      at = volume + rounded(at + size - volume, 8);
    }
    if (at < end && !is_filling(*area.bytes, at, end))
      add(area, folder + "free-space.bin", "not empty, though no file is there", at, end - at);
  }

  void file(const Area& area, std::uint64_t at, std::size_t head, std::uint64_t size,
            const FileHeader& header, const std::string& folder) {
    std::uint64_t data = at + head, length = size - head;
    if (header.Type == padding) {
      if (!is_filling(*area.bytes, data, data + length))
        add(area, folder + fmt::format("padding-{:08x}.bin", at), "padding that is not empty", data, length);
      return;
    }
    if (noted_ == nullptr) check_file_sum(area, data, length, header);
    std::string name = name_or_text(header.Name);
    std::size_t own = add_folder(area, folder + as_path_part(name), file_type_name(header.Type),
                                 text_of(header.Name), at, size);
    std::size_t first = out_.parts.size();
    Told told;
    if (header.Type == raw_file) {
      if (begins_volume(*area.bytes, data)) {
        region(area, data, length, folder + as_path_part(name) + "/");
      } else {
        add(area, folder + as_path_part(name) + "/raw.bin", "raw data", data, length);
      }
    } else {
      sections(area, data, data + length, folder + as_path_part(name) + "/", told);
    }
    rename(own, first, folder, as_path_part(name), told);
  }

  /// What sections tell of the file that they are in.
  struct Told {
    std::string name, version;
    std::string packed;
  };

  /// A file whose sections give it a name gets that instead of its GUID.
  void rename(std::size_t own, std::size_t first, const std::string& folder, const std::string& old,
              const Told& told) {
    FirmwarePart& entry = out_.parts[own];
    if (!told.version.empty()) entry.comment += ", version " + told.version;
    if (!told.packed.empty()) entry.comment += ", packed by " + told.packed;
    if (told.name.empty()) return;
    std::string path = folder + as_path_part(told.name), before = folder + old;
    bool taken = !folders_.insert(path).second;
    if (taken) path += "-" + old;
    entry.path = path;
    for (std::size_t i = first; i < out_.parts.size(); ++i)
      out_.parts[i].path.replace(0, before.size(), path);
  }

  void check_file_sum(const Area& area, std::uint64_t data, std::uint64_t length, const FileHeader& header) {
    Byte found = 0;
    if ((header.Attributes & kHasSum) != 0) {
      for (std::uint64_t at = 0; at < length; at += kBlock)
        found = static_cast<Byte>(found +
                                  sum8(read_up_to(*area.bytes, data + at, std::min(kBlock, length - at))));
      found = static_cast<Byte>(0x100 - found);
      if (found == header.file_sum) return;
    } else if (header.file_sum == 0xAA || header.file_sum == 0x5A) {  // no sum
      return;
    }
    out_.fault(fmt::format("{} at offset {:#x} does not fit its checksum: expected {:#04x}, found {:#04x}",
                           name_or_text(header.Name), area.file_at + data, header.file_sum, found));
  }

  // ---- sections

  void sections(const Area& area, std::uint64_t at, std::uint64_t end, const std::string& folder,
                Told& told) {
    DepthGuard guard(depth_, kDeepest,
                     [] { throw LimitExceeded("firmware: sections too deep within each other"); });
    for (std::uint64_t begin = at; at + 4 <= end;) {
      auto header = read_section(*area.bytes, at, end);
      if (!header || ++sections_ > kMostSections) {
        if (is_filling(*area.bytes, at, end)) return;
        out_.fault(fmt::format("the section at offset {:#x} is damaged: it is longer than what is around it",
                               area.file_at + at));
        add(area, folder + "damaged.bin", "damaged sections", at, end - at);
        return;
      }
      section(area, *header, folder, told);
      at = begin + rounded(header->end - begin, 4);
    }
  }

  void section(const Area& area, const Section& one, const std::string& folder, Told& told) {
    std::uint64_t size = one.end - one.data;
    std::string type = section_type_name(one.type);
    switch (one.type) {
      case Section::packed:
      case Section::guided:
        return wrapped(area, one, folder, told);
      case Section::pe32:
        return add(area, folder + "image.efi", type, one.data, size);
      case Section::te:
        return terse(area, one, folder);
      case Section::dxe_depex:
      case Section::pei_depex:
      case Section::mm_depex:
        return depex(area, one, folder);
      case Section::version: {
        Bytes raw = read_up_to(*area.bytes, one.data, std::min<std::uint64_t>(size, 512));
        if (raw.size() > 2) told.version = wide_text(ByteView(raw).subspan(2));
        return;
      }
      case Section::user_interface:
        told.name = wide_text(read_up_to(*area.bytes, one.data, std::min<std::uint64_t>(size, 512)));
        return;
      case Section::volume:
        return region(area, one.data, size, folder);
      case Section::disposable:
        return sections(area, one.data, one.end, folder + "disposable/", told);
      case Section::free_form: {
        Guid guid{};
        Bytes raw = read_up_to(*area.bytes, one.data, 16);
        std::copy(raw.begin(), raw.end(), guid.begin());
        std::uint64_t head = std::min<std::uint64_t>(16, size);
        return add(area, folder + name_or_text(guid) + ".bin", type, one.data + head, size - head);
      }
      case Section::raw:
        if (is_filling(*area.bytes, one.data, one.data + size)) return;  // to reach an alignment
        if (begins_volume(*area.bytes, one.data)) return region(area, one.data, size, folder);
        return add(area, folder + "raw.bin", type, one.data, size);
      default:
        return add(area, folder + fmt::format("section-{:02x}.bin", one.type), type, one.data, size);
    }
  }

  void wrapped(const Area& area, const Section& one, const std::string& folder, Told& told) {
    if (noted_ != nullptr) return noted_->push_back(one);
    auto ready = area.as_it_lies() ? ready_.extract(one.at) : Ready::node_type();
    Unwrapped inner = ready ? std::move(ready.mapped()) : unwrap(area.bytes, one, context_.spool);
    if (!inner.fault.empty())
      out_.fault(fmt::format("the section at offset {:#x}: {}", area.file_at + one.at, inner.fault));
    if (!inner.bytes)
      return add(area, folder + inner.name + ".bin", "packed section", one.at, one.end - one.at, inner.name);
    if (!inner.packed)
      return sections({area.bytes, area.file_at, area.method}, inner.at, one.end, folder, told);
    told.packed = inner.name;
    unpacked_ += inner.bytes->size();
    if (unpacked_ > kMostUnpacked) throw LimitExceeded("firmware: its packed sections hold more than 4 GiB");
    std::uint64_t file_at = area.as_it_lies() ? area.file_at + one.at : area.file_at;
    sections({inner.bytes, file_at, inner.method}, 0, inner.bytes->size(), folder, told);
  }

  void terse(const Area& area, const Section& one, const std::string& folder) {
    add(area, folder + "image.te", "TE", one.data, one.end - one.data);
    std::uint64_t size = std::min<std::uint64_t>(one.end - one.data, 64 << 20);
    if (auto made = rebuild_te(read_up_to(*area.bytes, one.data, size)))
      add_made(area, folder + "image.efi", "PE32 made of the TE", std::move(*made));
  }

  void depex(const Area& area, const Section& one, const std::string& folder) {
    std::uint64_t size = one.end - one.data;
    const char* name = one.type == Section::pei_depex ? "pei" : one.type == Section::mm_depex ? "mm" : "dxe";
    std::string path = fmt::format("{}{}.depex", folder, name);
    add(area, path, section_type_name(one.type), one.data, size);
    std::string text = depex_text(read_up_to(*area.bytes, one.data, std::min<std::uint64_t>(size, 64 << 10)));
    add_made(area, path + ".txt", "dependencies as text", Bytes(text.begin(), text.end()));
  }

  // ---- variables

  /// A variable store that begins at `at`; false when none does.
  bool variables(const Area& area, std::uint64_t at, const std::string& folder) {
    std::string trouble;
    auto found = read_variables(*area.bytes, at, trouble);
    if (!found) return false;
    if (!trouble.empty()) out_.fault(trouble);
    std::string text;
    for (const Variable& one : *found) {
      Bytes data = read_up_to(*area.bytes, one.at, std::min<std::uint64_t>(one.size, 64 << 10));
      std::string value = printable(value_text(one, data));
      text += fmt::format("{} {} = {} ({}{})\n", name_or_text(one.vendor), printable(one.name), value,
                          attributes_text(one.attributes), one.deleted ? "; deleted" : "");
      std::string path = fmt::format("{}{}/{}-{}", folder, one.deleted ? "deleted-variables" : "variables",
                                     as_path_part(one.name), text_of(one.vendor));
      add(area, path, attributes_text(one.attributes), one.at, one.size, value.substr(0, 80));
    }
    add_made(area, folder + "variables.txt", "variables as text", Bytes(text.begin(), text.end()));
    return true;
  }

  OpenContext& context_;
  Firmware& out_;
  Ready ready_;
  std::vector<Section>* noted_ = nullptr;
  int depth_ = 0;
  std::size_t sections_ = 0;
  std::uint64_t unpacked_ = 0;
  std::unordered_set<std::string> folders_;  ///< names that files have got
};

std::vector<Section> packed_sections(const SourcePtr& bytes, std::uint64_t at, std::uint64_t size,
                                     OpenContext& context) {
  std::vector<Section> packed;
  Firmware unseen;
  try {
    Builder(context, unseen, packed).region({bytes}, at, size, "");
  } catch (const Error&) {
    // told when the parts are listed
  }
  return packed;
}

/// Most of the time goes into unpacking, and one packed section knows nothing of the next.
Ready unpacked_ahead(const SourcePtr& bytes, std::uint64_t at, std::uint64_t size, OpenContext& context) {
  std::vector<Section> packed = packed_sections(bytes, at, size, context);
  Ready ready;
  if (packed.size() < 2) return ready;
  std::mutex mutex;  // guards `ready`
  try {
    for_each_of(packed.size(), 0, [&](std::size_t i) {
      Unwrapped inner = unwrap(bytes, packed[i], context.spool);
      std::lock_guard lock(mutex);
      ready.emplace(packed[i].at, std::move(inner));
    });
  } catch (const std::exception&) {
    // happens again, and is told, when the part is listed
  }
  return ready;
}

}  // namespace

bool begins_volume(const Source& bytes, std::uint64_t at) {
  return volume_at(bytes, at).has_value();
}

void add_region(const SourcePtr& bytes, std::uint64_t at, std::uint64_t size, const std::string& folder,
                OpenContext& context, Firmware& out) {
  Builder(context, out, unpacked_ahead(bytes, at, size, context)).region({bytes}, at, size, folder);
}

}  // namespace operculum::uefi
