#include "format/archive/zip_rewrite.h"

#include <fmt/format.h>

#include <algorithm>
#include <numeric>

#include "base/error.h"
#include "base/text.h"
#include "codec/codec.h"
#include "format/archive/zip_end.h"
#include "format/archive/zip_local.h"
#include "format/archive/zip_record.h"

namespace operculum::zip {
namespace {

constexpr std::uint64_t kMostAlignment = 16 * 1024;  // bytes: the largest page that packs are aligned to
constexpr std::size_t kAlignmentWitnesses = 64;  // entries that are looked at to see whether data is aligned

std::uint64_t alignment_of(std::uint64_t offset) {
  return std::min(offset & (~offset + 1), kMostAlignment);
}

/// What a central header says as it lies there, and what it says when its Zip64 field is read, too.
struct Central {
  Bytes raw;
  CentralHeader plain, header;  // views borrow from raw
};

Central read_central(Bytes raw, std::uint64_t offset) {
  Central out;
  out.raw = std::move(raw);
  Cursor cursor(out.raw, "zip central directory", offset);
  out.plain = out.header = CentralHeader::read(cursor);
  read_extra(out.header);  // replaces what the Zip64 field tells
  return out;
}

class Rewriter {
 public:
  /// What lies between entries: kept as it is, or taken out where it is filling.
  enum class Gaps { kept, closed };

  Rewriter(const Archive& archive, const Changes& changes, const Writing& writing, Gaps gaps = Gaps::kept)
      : archive_(archive), source_(*archive.source), changes_(changes), writing_(writing), gaps_(gaps) {}

  Assembly run() {
    put_in_order();
    find_alignment();
    place_.assign(archive_.entries.size(), kGone);
    std::uint64_t data_end = std::min(archive_.place.at, archive_.place.end.begin);
    if (order_.empty()) {
      keep(0, data_end);
    } else {
      if (!joined_volumes()) keep(0, header_at(order_.front()));
      for (std::size_t i = 0; i < order_.size(); ++i) {
        bool last = i + 1 == order_.size();
        std::uint64_t end = last ? data_end : header_at(order_[i + 1]);
        // A changed one is looked at when it is written; what stays behind one that is kept may be part of
        // it.
        if (!changes_.empty() && !is_changed(order_[i]) && (last || is_changed(order_[i + 1])))
          check_reach(order_[i], end_of_data(read_local(source_, header_at(order_[i])), order_[i]), end);
        write_entry(order_[i], end);
      }
    }
    for (const NewEntry& entry : changes_.added) add_entry(entry);
    write_directory();
    check_end();
    return std::move(out_);
  }

 private:
  static constexpr std::uint64_t kGone = UINT64_MAX;

  std::uint64_t header_at(std::size_t index) const { return archive_.places[index].header_at; }

  bool joined_volumes() const { return !archive_.place.volume_starts.empty(); }

  void keep(std::uint64_t from, std::uint64_t to) { out_.keep(archive_.source, from, to); }

  /// The comment stays as it is; it must not be taken for the end record now that it lies elsewhere.
  void check_end() const {
    SourcePtr result = out_.source();
    std::uint64_t behind = archive_.source->size() - archive_.place.end.position;
    auto found = find_end(*result);
    if (!found || found->position + behind != result->size())
      throw Malformed(
          fmt::format("zip end record at offset {}: what follows it looks like an end record, too, and would "
                      "be taken for it",
                      archive_.place.end.position));
  }

  /// By where they lie; of entries that share their data all but one are refused when one is to be changed.
  void put_in_order() {
    std::span<const Entry> entries = archive_.entries;
    order_.resize(entries.size());
    std::iota(order_.begin(), order_.end(), std::size_t{0});
    std::stable_sort(order_.begin(), order_.end(),
                     [&](std::size_t a, std::size_t b) { return header_at(a) < header_at(b); });
    for (std::size_t i = 0; i + 1 < order_.size(); ++i) {
      if (header_at(order_[i]) != header_at(order_[i + 1])) continue;
      for (std::size_t index : {order_[i], order_[i + 1]}) {
        if (is_changed(index)) {
          throw Unsupported(fmt::format("changing {}, whose data another entry of the archive shares",
                                        escape(entries[index].path)));
        }
      }
    }
    if (!order_.empty() && header_at(order_.back()) >= archive_.place.at)
      throw Unsupported("writing a ZIP archive whose directory does not lie behind its entries");
  }

  /// Data is taken as aligned when that of all stored entries that are looked at is, and one was filled up.
  void find_alignment() {
    bool padded = false;
    std::uint64_t common = kMostAlignment;
    std::size_t seen = 0, stored = 0;
    for (const Entry& entry : archive_.entries)
      stored += entry.method == "stored" && entry.has_data() ? 1 : 0;
    std::size_t step = stored / kAlignmentWitnesses + 1, number = 0;
    for (std::size_t i = 0; i < archive_.entries.size(); ++i) {
      const Entry& entry = archive_.entries[i];
      if (entry.method != "stored" || !entry.has_data() || number++ % step != 0) continue;
      try {
        Local local = read_local(source_, header_at(i));
        common = std::min(common, alignment_of(local.data));
        padded |= padding_of(local.header.extra).size > 0;
        ++seen;
      } catch (const Malformed&) {
        return;
      }
    }
    if (padded && seen > 0) alignment_ = common;
    constexpr std::size_t kWitnesses = 3;  // of fewer, chance may be the reason
    constexpr std::uint64_t kTelling = 512;
    if (seen >= kWitnesses || (seen > 0 && common >= kTelling)) common_alignment_ = common;
  }

  /// What the data of a stored entry is aligned to: more than the others' where it was filled up further.
  std::uint64_t alignment_for(const Entry& entry, const Local& local) const {
    if (alignment_ <= 1 || entry.method != "stored") return 1;
    return padding_of(local.header.extra).size < alignment_ ? alignment_ : alignment_of(local.data);
  }

  bool is_changed(std::size_t index) const {
    return changes_.replaced.contains(index) || changes_.removed.contains(index) ||
           changes_.renamed.contains(index);
  }

  std::uint64_t end_of_data(const Local& local, std::size_t index) const {
    return local.data + archive_.entries[index].stored_size;
  }

  /// Refuses data that goes on beyond what stays together with it.
  void check_reach(std::size_t index, std::uint64_t data_end, std::uint64_t end) const {
    if (data_end > end)
      throw Unsupported(
          fmt::format("changing a ZIP archive in which the data of {} reaches {} bytes into what "
                      "lies behind it",
                      escape(archive_.entries[index].path), data_end - end));
  }

  void write_entry(std::size_t index, std::uint64_t end) {
    const Entry& entry = archive_.entries[index];
    if (changes_.removed.contains(index)) return;
    place_[index] = out_.size();
    bool replaced = changes_.replaced.contains(index), renamed = changes_.renamed.contains(index);
    if (gaps_ == Gaps::closed) return keep_closed(index, end);
    if (!replaced && !renamed) {
      if (out_.size() == header_at(index) || alignment_ <= 1 || entry.method != "stored")
        return keep(header_at(index), end);
    }
    Local local = read_local(source_, header_at(index));
    if ((local.header.flags & masked_header_bit) != 0 && (replaced || renamed))
      throw Unsupported("changing entries of a ZIP archive whose headers are encrypted");
    Record& record = changed_[index];
    record.local = local.header;
    record.flags_before = local.header.flags;
    record.local_extra.assign(local.header.extra.begin(), local.header.extra.end());
    record.name = local.header.name;
    record.wide = has_field(local.header.extra, zip64_field);
    LocalHeader sized = local.header;
    read_extra(sized);  // the sizes, where the Zip64 field tells them
    bool sizes_stated = sized.compressed_size != 0 || sized.uncompressed_size != 0;
    record.local.compressed_size = sized.compressed_size;
    record.local.uncompressed_size = sized.uncompressed_size;
    if (renamed) rename(record, entry, changes_.renamed.at(index));
    std::uint64_t data_end = end_of_data(local, index);
    if (replaced || renamed) check_reach(index, data_end, end);
    bool has_descriptor = (local.header.flags & descriptor_bit) != 0;
    DescriptorForm form = has_descriptor ? descriptor_form(entry, record, data_end) : DescriptorForm{};
    if (replaced) pack_like(record, index, local);
    realign(record, alignment_for(entry, local));
    out_.add(record.local_bytes(sizes_stated));
    if (!replaced) {
      if (!renamed) changed_.erase(index);
      return keep(local.data, end);
    }
    out_.add(record.data.bytes);
    std::uint64_t behind = data_end;
    if (has_descriptor) {
      out_.add(descriptor_bytes(form, record.local));
      behind += form.size();
    }
    keep(behind, end);
  }

  /// An entry as it lies, and of the filling behind it only what keeps the data of others aligned.
  void keep_closed(std::size_t index, std::uint64_t end) {
    const Entry& entry = archive_.entries[index];
    Local local = read_local(source_, header_at(index));
    std::uint64_t gap = end_of_data(local, index);
    if ((local.header.flags & descriptor_bit) != 0) {
      Record record;
      record.wide = has_field(local.header.extra, zip64_field);
      gap += descriptor_form(entry, record, gap).size();
    }
    if (gap < end && is_filling(source_, gap, end))
      end -= (end - gap) / common_alignment_ * common_alignment_;
    keep(header_at(index), end);
  }

  void realign(Record& record, std::uint64_t alignment) const {
    if (alignment <= 1) return;
    std::uint64_t bare = out_.size() + kLocalSize + record.name.size();
    record.local_extra = aligned(record.local_extra, bare, alignment);
  }

  /// The new name as the old one was written; in UTF-8, which its flag says, where it is not plain.
  static void rename(Record& record, const Entry& entry, const std::string& path) {
    record.name = stored_name(path, entry.kind);
    record.local_extra = without_fields(record.local_extra, {unicode_path_field});
    if (!is_ascii(record.name)) record.local.flags |= utf8_bit;
  }

  DescriptorForm descriptor_form(const Entry& entry, const Record& record, std::uint64_t at) const {
    Bytes raw = read_up_to(source_, at, 24);
    DescriptorForm form;
    auto word = [&](std::size_t offset) {
      return raw.size() >= offset + 4 ? load_little<std::uint32_t>(raw.data() + offset) : 0;
    };
    form.has_mark = word(0) == kDataDescriptor;
    std::size_t sizes = form.has_mark ? 8 : 4;
    auto low = [](std::uint64_t size) { return static_cast<std::uint32_t>(size); };
    bool narrow = word(sizes) == low(entry.stored_size) && word(sizes + 4) == low(entry.size);
    bool wide = word(sizes) == low(entry.stored_size) && word(sizes + 8) == low(entry.size);
    form.wide = wide && !narrow;
    if (narrow && wide) form.wide = record.wide;
    return form;
  }

  void pack_like(Record& record, std::size_t index, const Local& local) {
    const Entry& entry = archive_.entries[index];
    const NewEntry& changed = changes_.replaced.at(index);
    if (local.extra.aes && !entry.is(Entry::encrypted))
      throw Unsupported(fmt::format("replacing {}, which has a field of AES encryption but is not encrypted",
                                    escape(entry.path)));
    ContentPtr content = content_of(changed);
    DataForm form;
    form.method = archive_.places[index].method;
    if (!writing_.choice.method.empty()) form.method = chosen_method();
    bool same_method = form.method == archive_.places[index].method;
    // Where its two headers differ in this, the directory is believed, as in reading.
    record.local.flags = static_cast<std::uint16_t>(record.local.flags & ~encrypted_bit);
    if (entry.is(Entry::encrypted)) record.local.flags |= encrypted_bit;
    form.flags = record.local.flags;
    form.time = record.local.time;
    if (entry.is(Entry::encrypted)) {
      form.password = archive_.password(index);
      if (local.extra.aes) form.aes = ZipAes{local.extra.aes->strength};
    }
    form.settings = settings_for(form, index, same_method, changed);
    record.data = pack_data(*content, form, writing_.spool);
    record.local.crc32 = local.extra.aes && local.extra.aes->version == 2 ? 0 : record.data.crc32;
    record.local.compressed_size = record.data.bytes->size();
    record.local.uncompressed_size = record.data.plain_size;
    if (!local.extra.aes) record.local.method = form.method;
    if (same_method && !writing_.choice.level) return;
    constexpr std::uint16_t kLevelBits = 6;
    record.local.flags = static_cast<std::uint16_t>((record.local.flags & ~kLevelBits) |
                                                    method_flags(form.method, form.settings));
    if (same_method) return;
    if (local.extra.aes) throw Unsupported("--method for entries with AES encryption");
    record.local.version_needed =
        std::max(record.local.version_needed, version_for(form.method, entry.is(Entry::encrypted)));
  }

  std::uint16_t chosen_method() const {
    auto method = method_for(writing_.choice.method);
    if (!method)
      throw Unsupported(fmt::format("the method \"{}\" in a ZIP archive", escape(writing_.choice.method)));
    return *method;
  }

  PackSettings settings_for(DataForm& form, std::size_t index, bool same_method,
                            const NewEntry& changed) const {
    const Entry& entry = archive_.entries[index];
    PackSettings settings;
    std::string_view codec = method_of(form.method).codec;
    if (same_method && !codec.empty()) {
      try {
        SourcePtr packed = archive_.packed(index);
        if (form.method == kMethodLzma) {
          form.lzma_version = read_up_to(*packed, 0, 2);
          packed = make_slice(packed, 4, UINT64_MAX);
        }
        settings = settings_like(codec, packed, *archive_.content(index), entry.size, entry.path, writing_);
      } catch (const Malformed&) {
        settings = {};  // what was there is damaged: that is why it is replaced
      }
    }
    if (form.method == kMethodLzma) settings.end_mark = !same_method || (form.flags & lzma_end_mark_bit) != 0;
    if (writing_.choice.level) settings.level = writing_.choice.level;
    settings.plain_size =
        changed.kind == EntryKind::symbolic_link ? changed.link_target.size() : changed.size;
    return settings;
  }

  void add_entry(const NewEntry& entry) {
    bool times = !archive_.entries.empty() && uses_times();
    Record record = new_record(entry, times);
    ContentPtr content = content_of(entry);
    std::uint16_t method = entry.kind != EntryKind::file || entry.size == 0 ? kMethodStored : usual_method();
    PackSettings settings;
    settings.level = writing_.choice.level;
    settings.plain_size = entry.kind == EntryKind::symbolic_link ? entry.link_target.size() : entry.size;
    pack_into(record, *content, method, settings, writing_.spool);
    if (method == kMethodStored && entry.kind == EntryKind::file) realign(record, alignment_);
    added_.push_back({std::move(record), out_.size()});
    Record& kept = added_.back().record;
    out_.add(kept.local_bytes(true));
    out_.add(kept.data.bytes);
    kept.data.bytes.reset();
  }

  /// The method that most entries with data have, of those that can be written.
  std::uint16_t usual_method() {
    if (!writing_.choice.method.empty()) return chosen_method();
    if (!usual_) {
      std::map<std::uint16_t, std::size_t> counts;
      for (std::size_t i = 0; i < archive_.entries.size(); ++i) {
        const Entry& entry = archive_.entries[i];
        if (entry.has_data() && entry.size > 0) ++counts[archive_.places[i].method];
      }
      std::pair<std::uint16_t, std::size_t> most{kMethodDeflate, 0};
      for (const auto& one : counts) {
        const Codec* codec = find_codec(method_of(one.first).codec);
        if (one.second > most.second && codec != nullptr && codec->pack != nullptr) most = one;
      }
      usual_ = most.first;
    }
    return *usual_;
  }

  bool uses_times() const {
    try {
      return has_field(read_local(source_, header_at(0)).header.extra, extended_time_field);
    } catch (const Malformed&) {
      return false;
    }
  }

  /// The directory, header by header: those that say the same as before are kept as they lie.
  void write_directory() {
    std::uint64_t directory_at = out_.size(), at = archive_.place.at, count = 0;
    for (std::size_t i = 0; i < archive_.entries.size(); ++i) {
      std::size_t length = central_length(at);
      bool changed = changed_.contains(i) || place_[i] != header_at(i) || joined_volumes();
      if (place_[i] != kGone) {
        ++count;
        if (changed) {
          out_.add(
              central_bytes(i, read_central(read_exactly(source_, at, length, "zip central directory"), at)));
        } else {
          out_.add(archive_.source, at, length);
        }
      }
      at += length;
    }
    for (const Added& one : added_) {
      ++count;
      CentralHeader before;
      Record record = one.record;
      record.central.local_offset = one.at - archive_.place.prefix;
      out_.add(record.central_bytes(before));
    }
    std::uint64_t directory_size = out_.size() - directory_at;
    if (count > 0 || archive_.entries.empty()) {  // else nothing could tell it from a damaged one
      keep(at, archive_.place.end.begin);         // a signature, or bytes that belong to nothing
      directory_size += archive_.place.end.begin - std::min(at, archive_.place.end.begin);
    }
    add_end_records(out_, archive_, {directory_at - archive_.place.prefix, directory_size, count});
  }

  std::size_t central_length(std::uint64_t at) const {
    Bytes raw = read_exactly(source_, at, kCentralSize, "zip central directory");
    auto header = read_structure<CentralHeader>(raw.data());
    return kCentralSize + header.name_length + header.extra_length + header.comment_length;
  }

  Bytes central_bytes(std::size_t index, const Central& central) const {
    Record record;
    record.central = central.header;
    record.central.local_offset = place_[index] - archive_.place.prefix;
    record.central.disk = 0;
    record.name = central.header.name;
    record.comment = central.header.comment;
    record.central_extra.assign(central.header.extra.begin(), central.header.extra.end());
    auto changed = changed_.find(index);
    if (changed == changed_.end()) return record.central_bytes(central.plain);
    const Record& made = changed->second;
    if (changes_.renamed.contains(index)) {
      record.central_extra = without_fields(record.central_extra, {unicode_path_field});
      record.name = made.name;
    }
    if (made.data.bytes) {
      record.central.method = made.local.method;
      record.central.crc32 = made.local.crc32;
      record.central.compressed_size = made.local.compressed_size;
      record.central.uncompressed_size = made.local.uncompressed_size;
    }
    // What changed in the one header, and what the new name is written in, holds for the other, too.
    unsigned same = made.local.flags ^ made.flags_before;
    if (changes_.renamed.contains(index)) same |= utf8_bit;
    record.central.flags =
        static_cast<std::uint16_t>((record.central.flags & ~same) | (made.local.flags & same));
    record.central.version_needed = std::max(record.central.version_needed, made.local.version_needed);
    return record.central_bytes(central.plain);
  }

  struct Added {
    Record record;
    std::uint64_t at;  // of its local header
  };

  const Archive& archive_;
  const Source& source_;
  const Changes& changes_;
  const Writing& writing_;
  Assembly out_;
  std::vector<std::size_t> order_;         // of entries on disk
  std::vector<std::uint64_t> place_;       // new offsets of local headers, by entry
  std::map<std::size_t, Record> changed_;  // whose central headers say something else than their offset
  std::vector<Added> added_;
  Gaps gaps_;
  std::uint64_t alignment_ = 1;         // of what fields of the headers fill up
  std::uint64_t common_alignment_ = 1;  // of the data of all stored entries, by whatever means
  std::optional<std::uint16_t> usual_;
};

}  // namespace

Assembly rewrite(const Archive& archive, const Changes& changes, const Writing& writing) {
  if (changes.empty() && archive.place.volume_starts.empty()) {
    Assembly whole;
    whole.add(archive.source);
    return whole;
  }
  return Rewriter(archive, changes, writing).run();
}

std::optional<Trimmed> trimmed(const Archive& archive, const Writing& writing, Look look) {
  if (!archive.place.volume_starts.empty() || archive.entries.empty()) return std::nullopt;
  std::uint64_t used = 0;  // at least
  for (const Entry& entry : archive.entries) used += kLocalSize + entry.path.size() + entry.stored_size;
  constexpr std::uint64_t kUnseen = 128;  // bytes of fields in an entry's header that only itself tells of
  std::uint64_t most = archive.place.at - std::min(archive.place.at, used);
  if (look == Look::samples && most < archive.entries.size() * kUnseen) return std::nullopt;
  Changes none;
  Trimmed out{Rewriter(archive, none, writing, Rewriter::Gaps::closed).run()};
  if (out.result.size() >= archive.source->size()) return std::nullopt;
  return out;
}

}  // namespace operculum::zip
