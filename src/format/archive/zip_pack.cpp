// A ZIP archive from scratch.
#include <fmt/format.h>

#include "base/error.h"
#include "base/parallel.h"
#include "base/text.h"
#include "container/packed_run.h"
#include "format/archive/formats.h"
#include "format/archive/zip_record.h"

namespace operculum {
namespace {

using namespace zip;

constexpr std::uint64_t kMostWhole = 16 << 20;  // bytes that are packed in memory, which is faster

std::uint16_t method_of_choice(const PackChoice& choice) {
  if (choice.method.empty()) return kMethodDeflate;
  auto method = method_for(choice.method);
  if (!method) throw Unsupported(fmt::format("the method \"{}\" in a ZIP archive", escape(choice.method)));
  return *method;
}

Record packed_record(const NewEntry& entry, std::uint16_t method, const Writing& writing) {
  Record record = new_record(entry, true);
  if (entry.packed && !writing.choice.level) {  // a level that was asked for means packing anew
    if (auto there = taken_over(*entry.packed, method_of(method).codec);
        there && there->plain_size == entry.size) {
      take_over(record, std::move(*there), method);
      return record;
    }
  }
  ContentPtr content = content_of(entry);
  PackSettings settings;
  settings.level = writing.choice.level;
  settings.plain_size = entry.kind == EntryKind::symbolic_link ? entry.link_target.size() : entry.size;
  settings.whole_buffer = method == kMethodDeflate && *settings.plain_size <= kMostWhole;
  bool worth_packing = entry.kind == EntryKind::file && entry.size > 0;
  pack_into(record, *content, worth_packing ? method : kMethodStored, settings, writing.spool);
  bool grew = record.local.method == kMethodDeflate && record.data.bytes->size() >= record.data.plain_size;
  if (grew) {
    Record stored = new_record(entry, true);
    pack_into(stored, *content, kMethodStored, settings, writing.spool);
    return stored;
  }
  return record;
}

}  // namespace

Assembly pack_zip(const std::vector<NewEntry>& entries, const Writing& writing) {
  std::uint16_t method = method_of_choice(writing.choice);
  std::vector<Record> records(entries.size());
  for_each_of(entries.size(), writing.choice.jobs,
              [&](std::size_t i) { records[i] = packed_record(entries[i], method, writing); });
  Assembly out;
  for (Record& record : records) {
    record.central.local_offset = out.size();
    out.add(record.local_bytes(true));
    out.add(record.data.bytes);
  }
  std::uint64_t directory_at = out.size();
  for (const Record& record : records) out.add(record.central_bytes({}));
  out.add(end_bytes(directory_at, out.size() - directory_at, records.size()));
  return out;
}

}  // namespace operculum
