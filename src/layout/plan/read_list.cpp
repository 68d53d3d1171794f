#include <fmt/format.h>

#include <algorithm>
#include <utility>

#include "base/error.h"
#include "layout/run/entered.h"
#include "layout/run/read_bytes.h"

namespace operculum::layout {
namespace {

using syntax::ListEnd;

/// Reads elements one after another and decides which shape the list has.
class Collector {
 public:
  Collector(const ListRead& plan, Frame& frame, Reader& reader)
      : plan_(plan), frame_(frame), reader_(reader) {
    const ReadPlan& element = *plan.element;
    list_.element = &element;
    list_.region = reader.region;
    list_.offset = reader.base;
    list_.limit = reader.limit;
    list_.begin = reader.at;
    recorded_at_ = frame.run.recorded(reader.region);
    if (recorded_at_)
      seen_ = ListSeen{{}, 0, frame.run.recorder->numbers.size(), plan.ends == ListEnd::counted};
    bool record = element.type.base == StaticType::Base::record && !element.type.is_list();
    const RecordPlan* kind = record ? element.type.record : nullptr;
    if (kind != nullptr && kind->leaf && kind->complete) {
      list_.shape = List::Shape::offsets;
      for (const NodePtr& argument : static_cast<const RecordRead&>(element).arguments)
        list_.arguments.push_back(argument->value(frame));
    }
  }

  /// Reads one; false when the condition of the list says that it ends here.
  bool add() {
    Run& run = frame_.run;
    run.step(plan_.where);
    if (list_.size() >= run.context().limits.max_entries)
      throw LimitExceeded(fmt::format(
          "a list of more than {} elements; if that is right, raise --max-entries", list_.size()));
    std::uint64_t begin = reader_.at;
    Value value;
    {
      Entered entered(run, run.observer == nullptr ? "" : fmt::format("[{}]", list_.size()));
      value = list_.shape == List::Shape::offsets ? leaf_record() : plan_.element->read(frame_, reader_);
    }
    if (!plan_.looks_ahead && (plan_.ends == ListEnd::until || plan_.ends == ListEnd::whilst)) {
      Store::Sizes kept = run.store().sizes;
      frame_.slots[plan_.it] = condition_value(value, begin);
      Frame here{run, frame_.slots, &reader_};
      bool holds = plan_.count->truth(here);
      if (list_.shape == List::Shape::offsets) run.store().shrink(kept);  // it was only looked at
      if (plan_.ends == ListEnd::until && holds) return false;
      if (plan_.ends == ListEnd::whilst && !holds) {
        reader_.at = begin;
        return false;
      }
    }
    if (list_.shape == List::Shape::offsets) {
      list_.offsets.push_back(begin);
    } else {
      list_.values.push_back(value);
    }
    if (seen_) {
      seen_->begins.push_back(*recorded_at_ + begin);
      seen_->end = *recorded_at_ + reader_.at;
    }
    return true;
  }

  Value finish() {
    list_.end = reader_.at;
    if (seen_) frame_.run.recorder->lists.push_back(*std::move(seen_));
    return frame_.run.store().add(std::move(list_));
  }

 private:
  /// Passes over a record of which only the offset is kept; its slots are ready for a condition.
  Value leaf_record() {
    const RecordPlan& record = *plan_.element->type.record;
    slots_.assign(record.slots, Value{});
    std::copy(list_.arguments.begin(), list_.arguments.end(), slots_.begin());
    Reader inner = reader_;
    inner.start = reader_.at;
    Frame own{frame_.run, slots_.data(), &inner};
    RecordRead::run_actions(record, own, inner);
    reader_.at = inner.at;
    return {};
  }

  Value condition_value(const Value& value, std::uint64_t begin) {
    Run& run = frame_.run;
    if (list_.shape == List::Shape::offsets)
      return run.store().add(Instance{plan_.element->type.record, reader_.region, begin, reader_.at, slots_});
    if (value.kind == Value::Kind::bytes && plan_.element->type.is(StaticType::Base::text)) {
      std::string text;
      static_cast<const TextPlan&>(*plan_.element).decode(run, value, text);
      return run.keep(std::move(text));
    }
    return value;
  }

  const ListRead& plan_;
  Frame& frame_;
  Reader& reader_;
  List list_;
  std::optional<std::uint64_t> recorded_at_;
  std::optional<ListSeen> seen_;  // where it is to be recorded
  std::vector<Value> slots_;
};

/// What is read here counts as something else for the coverage.
class CoverHere {
 public:
  CoverHere(Run& run, Cover cover) : run_(run), before_(std::exchange(run.cover, cover)) {}
  ~CoverHere() { run_.cover = before_; }
  CoverHere(const CoverHere&) = delete;
  CoverHere& operator=(const CoverHere&) = delete;

 private:
  Run& run_;
  Cover before_;
};

}  // namespace

Value ListRead::strided(Frame& frame, Reader& reader, std::uint64_t elements) const {
  Run& run = frame.run;
  std::uint64_t stride = *element->fixed;
  std::uint64_t left = reader.limit - std::min(reader.at, reader.limit);
  if (elements > left / stride) {
    throw CutShort(fmt::format(
        "{}: a table of {} elements of {} bytes at offset {} does not fit into the {} bytes that are left",
        run.plan().description.line_of(where.at), elements, stride, reader.at, left));
  }
  List list;
  list.shape = List::Shape::strided;
  list.element = element.get();
  list.region = reader.region;
  list.offset = reader.at;
  list.stride = stride;
  list.count = elements;
  run.mark(reader.region, reader.at, elements * stride, run.cover);
  if (auto base = run.recorded(reader.region)) {
    std::uint64_t begin = *base + reader.at;
    ListSeen seen{{}, begin + elements * stride, run.recorder->numbers.size(), ends == ListEnd::counted};
    for (std::uint64_t i = 0; i < elements; ++i) seen.begins.push_back(begin + i * stride);
    run.recorder->lists.push_back(std::move(seen));
  }
  reader.at += elements * stride;
  return run.store().add(std::move(list));
}

Value ListRead::read(Frame& frame, Reader& reader) const {
  Run& run = frame.run;
  CoverHere cover(run, Cover::index);
  const RecordPlan* record = element->type.is_list() ? nullptr : element->type.record;
  bool strides =
      element->fixed && *element->fixed > 0 && element->direct && (record == nullptr || record->plain);
  Value list;
  if (strides && (ends == ListEnd::counted || ends == ListEnd::to_end || ends == ListEnd::within)) {
    std::uint64_t room = reader.limit - std::min(reader.at, reader.limit);
    if (ends == ListEnd::within) room = count->size(frame, "the size of a list");
    list = strided(
        frame, reader,
        ends == ListEnd::counted ? count->size(frame, "the length of a list") : room / *element->fixed);
  } else {
    Reader inner = reader;
    std::uint64_t most = UINT64_MAX;
    if (ends == ListEnd::counted) most = count->size(frame, "the length of a list");
    if (ends == ListEnd::within) {
      std::uint64_t size = count->size(frame, "the size of a list");
      if (size > inner.limit - std::min(inner.at, inner.limit)) take(run, inner, size, where);  // throws
      inner.limit = inner.at + size;
    }
    Collector collector(*this, frame, inner);
    bool to_end_of_data = ends == ListEnd::to_end && inner.limit == run.region(inner.region).size();
    auto added = [&](std::uint64_t so_far) {
      std::uint64_t begin = inner.at;
      try {
        return collector.add();
      } catch (const CutShort&) {
        if (!to_end_of_data || so_far == 0) throw;
        run.add_damage(
            fmt::format("{}: the list is cut short: its element {} begins at offset {} and does not end",
                        run.plan().description.line_of(where.at), so_far, begin));
        inner.at = inner.limit;
        return false;
      }
    };
    bool by_room = ends == ListEnd::within || ends == ListEnd::to_end;
    for (std::uint64_t i = 0; i < most && (!by_room || inner.at < inner.limit); ++i) {
      std::uint64_t begin = inner.at;
      if (looks_ahead) {
        Frame here{run, frame.slots, &inner};
        if (count->truth(here) == (ends == ListEnd::until)) break;
      }
      if (!added(i)) break;
      if (inner.at == begin && by_room)
        run.fail(where, fmt::format("the elements of this list take no bytes at offset {}", begin));
    }
    reader.at = inner.at;
    list = collector.finish();
  }
  return list;
}

}  // namespace operculum::layout
