#include <fmt/format.h>

#include "base/error.h"
#include "layout/plan/value_text.h"
#include "layout/run/entered.h"
#include "layout/run/read_bytes.h"

namespace operculum::layout {

void RecordRead::run_actions(const RecordPlan& record, Frame& frame, Reader& reader) {
  for (const auto& action : record.actions) action->run(frame, reader);
}

Value RecordRead::read(Frame& frame, Reader& reader) const {
  Run& run = frame.run;
  run.step(where);
  if (record.plain && !record.checks && run.observer == nullptr) {
    std::uint64_t at = reader.at;
    if (*record.fixed > reader.limit - std::min(reader.at, reader.limit))
      take(run, reader, *record.fixed, where);  // throws
    reader.at += *record.fixed;
    return {static_cast<std::int64_t>(at), 0, reader.region, Value::Kind::placed};
  }
  Run::Deeper deeper(run, where);
  std::vector<Value> slots(record.slots);
  for (std::size_t i = 0; i < arguments.size(); ++i) slots[i] = arguments[i]->value(frame);
  Reader inner = reader;
  inner.start = reader.at;
  Frame own{run, slots.data(), &inner};
  run_actions(record, own, inner);
  std::uint64_t begin = reader.at;
  reader.at = inner.at;
  if (record.plain) return {static_cast<std::int64_t>(begin), 0, reader.region, Value::Kind::placed};
  return run.store().add(Instance{&record, reader.region, begin, inner.at, std::move(slots)});
}

Value PlacedRead::read(Frame& frame, Reader&) const {
  Run& run = frame.run;
  Reader reader;
  if (in != nullptr) {
    Run::Piece piece = run.placed(in->value(frame));
    reader = {piece.region, piece.offset, 0, piece.offset + piece.length, 0};
  } else if (frame.reader != nullptr) {
    reader = {frame.reader->region, frame.reader->base, 0, run.region(frame.reader->region).size(), 0};
  } else {
    reader = {0, 0, 0, run.region(0).size(), 0};
  }
  std::int64_t offset = at->number(frame);
  if (offset < 0 || static_cast<std::uint64_t>(offset) > reader.limit - reader.base) {
    std::string text =
        fmt::format("{}: offset {} lies outside the {} bytes that can be read",
                    run.plan().description.line_of(where.at), offset, reader.limit - reader.base);
    throw CutShort(text);
  }
  reader.at = reader.start = reader.base + static_cast<std::uint64_t>(offset);
  if (auto base = run.recorded(reader.region))
    run.recorder->placed.push_back({offset, *base + reader.at, run.recorder->numbers.size()});
  return run.observer == nullptr ? inner->read(frame, reader) : observed(frame, reader);
}

/// Reads and tells of it: what is read elsewhere is no part of the record at hand.
Value PlacedRead::observed(Frame& frame, Reader& reader) const {
  Run& run = frame.run;
  bool record = inner->type.is(StaticType::Base::record);
  std::uint64_t begin = reader.at;
  Entered entered(run, record ? inner->type.record->name : inner->type.is_list() ? "(list)" : "(value)");
  Value value;
  try {
    value = inner->read(frame, reader);
  } catch (const Error& error) {
    run.observer->failed("", run.region(reader.region), begin, error.what());
    throw;
  }
  if (!record && !inner->type.is_list()) {
    run.observer->field("", run.region(reader.region), begin, reader.at - begin,
                        value_text(run, value, *inner));
    run.mark(reader.region, begin, reader.at - begin, run.cover);
  }
  return value;
}

}  // namespace operculum::layout
