#include "layout/described_container.h"

#include <fmt/format.h>

#include <algorithm>
#include <atomic>
#include <memory>
#include <mutex>
#include <utility>

#include "base/error.h"
#include "base/text.h"
#include "base/units.h"
#include "layout/described_content.h"
#include "layout/entry_roles.h"
#include "layout/entry_trace.h"
#include "layout/rewrite/trim_described.h"
#include "layout/run/execute.h"

namespace operculum::layout {
namespace {

/// A pointer that leads somewhere for a while.
template <typename T>
class During {
 public:
  During(T*& pointer, T* to) : pointer_(pointer), before_(std::exchange(pointer, to)) {}
  ~During() { pointer_ = before_; }
  During(const During&) = delete;
  During& operator=(const During&) = delete;

 private:
  T*& pointer_;
  T* before_;
};

class Described final : public DescribedContainer {
 public:
  Described(std::shared_ptr<const Plan> plan, const Input& input, SourcePtr source, OpenContext& context,
            Observer* observer, Recorder* recorder, StandIns stand_ins)
      : plan_(std::move(plan)),
        input_(input),
        source_(source),
        run_(*plan_, input, std::move(source), context),
        roles_(run_,
               [this](std::string sentence) { add_finding(Finding::Level::fault, std::move(sentence)); }) {
    run_.observer = observer;
    run_.recorder = recorder;
    run_.stand_ins = std::move(stand_ins);
    Head head = execute(run_);
    run_.observer = nullptr;
    facts_ = std::move(head.facts);
    for (std::string& text : head.missing) add_finding(Finding::Level::fault, std::move(text));
    tell_damage();
  }

  std::span<const Entry> entries() override {
    if (kept_) return entries_;
    std::lock_guard lock(mutex_);
    keep_all();
    run_.recorder = nullptr;
    return entries_;
  }

  /// Nothing is kept of entries that are only looked at.
  void each(Detail detail, const std::function<void(const Entry&)>& visitor) override {
    if (kept_) return Container::each(detail, visitor);
    std::lock_guard lock(mutex_);
    Passing passing{detail, &visitor};
    During shown(passing_, &passing);
    list_all();
  }

  ContentPtr content(std::size_t index) override {
    entries();
    std::lock_guard lock(mutex_);
    return described(index);
  }

  EntryLook look(std::size_t index) override {
    entries();
    std::lock_guard lock(mutex_);
    EntryLook out;
    During recorded(run_.recorder, &out.reads);
    std::shared_ptr<DescribedContent> content = described(index);
    out.recipe = content->recipe;
    out.size = content->expected.size;
    out.crc32 = content->expected.crc32;
    out.of_data = content->of_data;
    out.of_stored = content->of_stored;
    return out;
  }

  std::vector<DifferingCheck> differing_checks() override {
    std::lock_guard lock(mutex_);
    return layout::differing_checks(run_);
  }

  SourcePtr stored(std::size_t index) override {
    EntryLook found = look(index);
    bool plain = found.recipe && found.recipe->missing.empty() && found.recipe->steps.empty();
    return plain ? found.recipe->source : nullptr;
  }

  std::optional<PackedRun> packed_alone(std::size_t index) override {
    EntryLook found = look(index);
    const Recipe* recipe = found.recipe.get();
    if (recipe == nullptr || !recipe->source || !recipe->missing.empty() || recipe->steps.size() != 1)
      return std::nullopt;
    const Step& step = recipe->steps.front();
    bool has_settings = std::any_of(step.arguments.begin(), step.arguments.end(),
                                    [](const StepArgument& argument) { return argument.given; });
    if (has_settings || find_codec(step.kind->name) == nullptr) return std::nullopt;
    return PackedRun{step.kind->name, recipe->source, std::nullopt, std::nullopt};
  }

  SourcePtr packed_run(std::size_t index) override {
    EntryLook found = look(index);
    return found.recipe && found.recipe->missing.empty() ? found.recipe->source : nullptr;
  }

  Assembly rewrite(const Changes& changes, const Writing& writing) override {
    return rewrite_described({plan_, input_, source_, &run_.context()}, changes, writing);
  }

  std::optional<Trimmed> trimmed(Look look) override {
    return trim_described({plan_, input_, source_, &run_.context()}, look);
  }

  Facts facts() override { return facts_; }

  void observe_all(Observer& observer) override {
    std::lock_guard lock(mutex_);
    During observed(run_.observer, &observer);
    keep_all();
    for (const std::string& name : mark_regions(run_))
      add_finding(
          Finding::Level::warning,
          fmt::format("the region \"{}\" covers no byte of a file: it is empty, or made by other means",
                      name));
    std::vector<Value> slots;
    for (std::size_t i = 0; i < entries_.size(); ++i) {
      try {
        const EntryPlan& rule = restore(i, slots);
        Frame frame{run_, slots.data()};
        if (rule.data != nullptr) run_.mark_made(rule.data->value(frame), Cover::data);
      } catch (const LimitExceeded&) {
        throw;
      } catch (const std::exception&) {
        // this entry has no bytes to mark; verify tells why
      }
    }
    show_lists(run_);
  }

  void observe_entry(std::size_t index, Observer& observer) override {
    entries();
    std::lock_guard lock(mutex_);
    Run::Scratch scratch(run_);
    std::vector<Value> slots;
    const EntryPlan& rule = restore(index, slots);
    During observed(run_.observer, &observer);
    show_entry(run_, rule, slots);
  }

 private:
  std::shared_ptr<DescribedContent> described(std::size_t index) {
    Run::Scratch scratch(run_);
    std::vector<Value> slots;
    const EntryPlan& rule = restore(index, slots);
    Frame frame{run_, slots.data()};
    if (entries_[index].is(Entry::damaged)) {  // what could not be told when it was listed fails again
      Entry again;
      roles_.selects(rule, frame);
      roles_.fill_kind(rule, frame, again);
    }
    auto content = std::make_shared<DescribedContent>();
    content->plan = plan_;
    Value data = rule.data == nullptr ? Value{} : rule.data->value(frame);
    if (!data.there()) throw Malformed("the description finds no data for this entry");
    content->recipe = run_.recipe_of(data);
    if (rule.size != nullptr) content->expected.size = rule.size->size_if(frame, "a size");
    if (rule.crc32 != nullptr) content->expected.crc32 = stated_crc32(*rule.crc32, frame);
    for (const CheckPlan& check : rule.checks) {
      if (!check.expected->value(frame).there()) continue;
      ExpectedSum sum = expected_sum(check, frame);
      if (check.of == CheckPlan::Of::expression) {
        content->beside.emplace_back(run_.recipe_of(check.what->value(frame)), std::move(sum));
      } else {
        (check.of == CheckPlan::Of::data ? content->of_data : content->of_stored).push_back(std::move(sum));
      }
    }
    return content;
  }

  /// A listing whose entries are shown and not kept.
  struct Passing {
    Detail detail;
    const std::function<void(const Entry&)>* visitor;
  };
  struct Listing {
    std::size_t rule;
    std::vector<Value> slots;  // with the outer loops' variables
  };
  struct Origin {
    std::uint32_t listing, index;
  };

  void keep_all() {
    if (kept_) return;
    entries_.clear();  // of a listing that a guard stopped
    origins_.clear();
    list_all();
    kept_ = true;
  }

  void list_all() {
    listings_.clear();
    count_ = nameless_ = 0;
    roles_.forget();
    for (const StatementPlan& statement : plan_->statements) {
      if (statement.kind != StatementPlan::Kind::entry) continue;
      const EntryPlan& rule = plan_->entries[statement.entry];
      std::vector<Value> slots(rule.slots);
      try {
        loop(rule, statement.entry, 0, slots);
      } catch (const LimitExceeded&) {
        throw;
      } catch (const std::exception& thrown) {
        Error error = as_error(thrown);
        add_finding(Finding::Level::fault, fmt::format("the listing ends after {}: {}",
                                                       counted(count_, "entry", "entries"), error.what()));
      }
    }
    if (roles_.beyond() > 0) {
      add_finding(
          Finding::Level::fault,
          fmt::format(
              "{} of {} entries reach beyond the end of the file, the first is \"{}\"; the file is cut short",
              roles_.beyond(), count_, escape(roles_.first_beyond())),
          Finding::About::entries);
    }
    if (nameless_ > 0)
      add_finding(
          Finding::Level::warning,
          fmt::format("{} without a path: it is empty or cannot be had; such are named entry-1 and so on",
                      counted(nameless_, "entry is", "entries are")));
    for (std::string& fault : compare_checks(run_)) add_finding(Finding::Level::fault, std::move(fault));
    tell_damage();
  }

  void tell_damage() {
    for (std::string& sentence : run_.take_damage()) add_finding(Finding::Level::fault, std::move(sentence));
  }

  /// Goes through the rule's loops from `level` on.
  void loop(const EntryPlan& rule, std::size_t number, std::size_t level, std::vector<Value>& slots) {
    Frame frame{run_, slots.data()};
    if (level == rule.loops.size()) {  // a rule without loops
      listings_.push_back({number, slots});
      return one(rule, 0, frame);
    }
    const EntryPlan::Loop& loop_plan = rule.loops[level];
    Value list = loop_plan.list->value(frame);
    if (!list.there()) return;
    slots[loop_plan.slot + 1] = list;
    bool innermost = level + 1 == rule.loops.size();
    if (innermost) listings_.push_back({number, slots});
    std::uint64_t count = run_.count(list);
    const std::optional<Value> first = placed_element(list);
    if (innermost && passing_ == nullptr && entries_.size() + count < run_.context().limits.max_entries) {
      entries_.reserve(entries_.size() + static_cast<std::size_t>(count));
      origins_.reserve(entries_.size() + static_cast<std::size_t>(count));
    }
    for (std::uint64_t i = 0; i < count; ++i) {
      run_.step(rule.where);
      if (first) {
        set(loop_plan, slots, placed_behind(*first, i * run_.store().lists[list.object].stride), i);
      } else {
        set(loop_plan, slots, run_.element(list, i), i);
      }
      if (innermost) {
        one(rule, i, frame);
      } else {
        loop(rule, number, level + 1, slots);
      }
    }
  }

  /// The first element of a table whose records are read in place; the others follow it by their stride.
  std::optional<Value> placed_element(const Value& list) {
    const List& all = run_.store().lists[list.object];
    if (all.shape != List::Shape::strided || all.count == 0) return std::nullopt;
    Value first = run_.element(list, 0);
    return first.kind == Value::Kind::placed ? std::optional(first) : std::nullopt;
  }
  static Value placed_behind(Value first, std::uint64_t bytes) {
    first.a += static_cast<std::int64_t>(bytes);
    return first;
  }

  static void set(const EntryPlan::Loop& loop_plan, std::vector<Value>& slots, const Value& element,
                  std::uint64_t index) {
    slots[loop_plan.slot] = element;
    slots[loop_plan.slot + 2] = Value::of(static_cast<std::int64_t>(index));
    if (loop_plan.number_slot) slots[*loop_plan.number_slot] = Value::of(static_cast<std::int64_t>(index));
  }

  static void forget_variables(const EntryPlan& rule, Frame& frame) {
    for (const auto& [slot, value] : rule.lets) frame.slots[slot].kind = Value::Kind::pending;
  }

  void one(const EntryPlan& rule, std::uint64_t index, Frame& frame) {
    Run::Scratch scratch(run_);
    Entry& entry = begin_entry();
    try {
      forget_variables(rule, frame);
      if (!roles_.selects(rule, frame)) return drop_entry();
      roles_.fill_path(rule, frame, entry);
      name_nameless(entry);
      roles_.fill_kind(rule, frame, entry);
      if (passing_ == nullptr || passing_->detail == Detail::all) roles_.fill_rest(rule, frame, entry);
    } catch (const LimitExceeded&) {
      drop_entry();
      throw;
    } catch (const std::exception& thrown) {
      Error error = as_error(thrown);
      name_nameless(entry);
      entry.flags |= Entry::damaged;
      add_finding(Finding::Level::fault, fmt::format("{}: {}", escape(entry.path), error.what()),
                  Finding::About::entries);
    }
    Origin origin{static_cast<std::uint32_t>(listings_.size() - 1), static_cast<std::uint32_t>(index)};
    std::vector<std::string> others;
    if (rule.also != nullptr) others = roles_.other_paths(rule, entry, frame);
    const std::string first = others.empty() ? "" : entry.path;
    const Timestamp modified = entry.modified;
    finish_entry(entry, origin);
    for (std::string& path : others) {
      if (path.empty() || path == first) continue;
      Entry& other = begin_entry();
      other.path = std::move(path);
      other.kind = EntryKind::hard_link;
      other.modified = modified;
      other.size = other.stored_size = 0;
      other.extras().link_target = first;
      finish_entry(other, origin);
    }
  }

  /// An empty entry to be filled in. Each is made in the same place, whose path keeps its memory.
  Entry& begin_entry() {
    ++count_;
    std::string path = std::move(entry_.path);
    path.clear();
    std::destroy_at(&entry_);
    std::construct_at(&entry_)->path = std::move(path);
    return entry_;
  }
  void drop_entry() { --count_; }
  /// Shows it, or keeps it with a path that takes no more memory than it needs.
  void finish_entry(Entry& entry, Origin origin) {
    if (passing_ != nullptr) {
      run_.context().limits.count_entry();
      return (*passing_->visitor)(entry);
    }
    std::string room = std::move(entry.path);
    entry.path = std::string(room);
    run_.context().limits.count_kept(entry);
    entries_.push_back(std::move(entry));
    origins_.push_back(origin);
    entry_.path = std::move(room);
  }

  void name_nameless(Entry& entry) {
    if (!entry.path.empty()) return;
    entry.path = fmt::format("entry-{}", count_);
    ++nameless_;
  }

  /// The variables as they were when the entry was listed.
  const EntryPlan& restore(std::size_t index, std::vector<Value>& slots) {
    Origin origin = origins_[index];
    const Listing& listing = listings_[origin.listing];
    const EntryPlan& rule = plan_->entries[listing.rule];
    slots = listing.slots;
    if (!rule.loops.empty()) {
      const EntryPlan::Loop& innermost = rule.loops.back();
      set(innermost, slots, run_.element(slots[innermost.slot + 1], origin.index), origin.index);
    }
    Frame frame{run_, slots.data()};
    forget_variables(rule, frame);
    return rule;
  }

  std::shared_ptr<const Plan> plan_;
  Input input_;
  SourcePtr source_;
  std::mutex mutex_;  // guards the run
  Run run_;
  EntryRoles roles_;
  std::atomic<bool> kept_ = false;  // entries_ is complete
  Passing* passing_ = nullptr;      // while entries are only shown
  Entry entry_;                     // that is being made
  std::vector<Entry> entries_;
  std::vector<Origin> origins_;
  std::vector<Listing> listings_;
  std::uint64_t count_ = 0, nameless_ = 0;  // entries so far; of these, those without a path
  Facts facts_;
};

}  // namespace

std::shared_ptr<DescribedContainer> open_described(std::shared_ptr<const Plan> plan, const Input& input,
                                                   SourcePtr source, OpenContext& context, Observer* observer,
                                                   Recorder* recorder, StandIns stand_ins) {
  return std::make_shared<Described>(std::move(plan), input, std::move(source), context, observer, recorder,
                                     std::move(stand_ins));
}

}  // namespace operculum::layout
