#include "layout/described_container.h"

#include <fmt/format.h>

#include <algorithm>
#include <atomic>
#include <mutex>
#include <utility>

#include "base/error.h"
#include "base/sum_kinds.h"
#include "base/text.h"
#include "layout/plan/value_text.h"
#include "layout/rewrite/trim_described.h"
#include "layout/run/entered.h"
#include "layout/run/execute.h"

namespace operculum::layout {
namespace {

/// Passes data on and compares a checksum at its end.
class SummedStream final : public Stream {
 public:
  SummedStream(StreamPtr inner, ExpectedSum expected)
      : inner_(std::move(inner)),
        expected_(std::move(expected)),
        sum_(find_sum(expected_.check->algorithm)->make(expected_.check->parameters)) {}
  std::size_t read(ByteSpan out) override {
    std::size_t count = inner_->read(out);
    if (count > 0) {
      sum_->add(out.first(count));
    } else if (sum_) {
      std::string fault = compare(expected_, sum_->finish());
      sum_.reset();
      if (!fault.empty()) throw Malformed(fault + "; the data is damaged");
    }
    return count;
  }

 private:
  StreamPtr inner_;
  ExpectedSum expected_;
  std::unique_ptr<Sum> sum_;
};

/// Passes data on and compares the checksum of other bytes at its end.
class BesideStream final : public Stream {
 public:
  BesideStream(StreamPtr inner, RecipePtr beside, ExpectedSum expected)
      : inner_(std::move(inner)), beside_(std::move(beside)), expected_(std::move(expected)) {}
  std::size_t read(ByteSpan out) override {
    std::size_t count = inner_->read(out);
    if (count > 0 || beside_ == nullptr) return count;
    std::string fault = compare(expected_, std::exchange(beside_, nullptr));
    if (!fault.empty()) throw Malformed(fault + "; the data is damaged");
    return 0;
  }
  std::uint64_t skip_hole() override { return inner_->skip_hole(); }

 private:
  StreamPtr inner_;
  RecipePtr beside_;
  ExpectedSum expected_;
};

/// The data of an entry, with everything looked up: usable from any thread.
class DescribedContent final : public Content {
 public:
  RecipePtr recipe;
  Expected expected;
  std::vector<ExpectedSum> of_data, of_stored;
  std::vector<std::pair<RecipePtr, ExpectedSum>> beside;  // of other bytes that belong to the entry
  std::shared_ptr<const Plan> plan;                       // keeps the checks alive

  StreamPtr stream() const override {
    StreamPtr made;
    if (of_stored.empty()) {
      made = open_recipe(recipe, expected.size);
    } else {
      auto stored = std::make_shared<Recipe>(*recipe);
      std::vector<Step> steps = std::exchange(stored->steps, {});
      StreamPtr raw = open_recipe(stored, std::nullopt);
      for (const ExpectedSum& sum : of_stored) raw = std::make_unique<SummedStream>(std::move(raw), sum);
      for (const Step& step : steps) raw = step.kind->open(std::move(raw), step.arguments, expected.size);
      made = std::move(raw);
    }
    for (const ExpectedSum& sum : of_data) made = std::make_unique<SummedStream>(std::move(made), sum);
    for (const auto& [recipe_of_it, sum] : beside)
      made = std::make_unique<BesideStream>(std::move(made), recipe_of_it, sum);
    return make_checked(std::move(made), expected);
  }
  SourcePtr source() const override {
    SourcePtr plain = plain_source(*recipe);
    return plain && (!expected.size || plain->size() == *expected.size) ? plain : nullptr;
  }
};

class Described final : public DescribedContainer {
 public:
  Described(std::shared_ptr<const Plan> plan, const Input& input, SourcePtr source, OpenContext& context,
            Observer* observer, Recorder* recorder)
      : plan_(std::move(plan)),
        input_(input),
        source_(source),
        run_(*plan_, input, std::move(source), context) {
    run_.observer = observer;
    run_.recorder = recorder;
    Head head = execute(run_);
    run_.observer = nullptr;
    facts_ = std::move(head.facts);
    for (std::string& text : head.missing) add_finding(Finding::Level::fault, std::move(text));
    tell_damage();
  }

  std::span<const Entry> entries() override {
    std::call_once(listed_, [this] {
      std::lock_guard lock(mutex_);
      list_all();
      run_.recorder = nullptr;
      kept_ = true;
    });
    return entries_;
  }

  /// Nothing is kept of entries that are only looked at.
  void each(Detail detail, const std::function<void(const Entry&)>& visitor) override {
    if (kept_) return Container::each(detail, visitor);
    std::lock_guard lock(mutex_);
    Passing passing{detail, &visitor};
    passing_ = &passing;
    try {
      list_all();
    } catch (...) {
      passing_ = nullptr;
      throw;
    }
    passing_ = nullptr;
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
    run_.recorder = &out.reads;
    std::shared_ptr<DescribedContent> content;
    try {
      content = described(index);
    } catch (...) {
      run_.recorder = nullptr;
      throw;
    }
    run_.recorder = nullptr;
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

  SourcePtr packed_run(std::size_t index) override {
    EntryLook found = look(index);
    return found.recipe && found.recipe->missing.empty() ? found.recipe->source : nullptr;
  }

  Assembly rewrite(const Changes& changes, const Writing& writing) override {
    return rewrite_described({plan_, input_, source_, run_.context()}, changes, writing);
  }

  std::optional<Trimmed> trimmed(Look look) override {
    return trim_described({plan_, input_, source_, run_.context()}, look);
  }

  std::vector<std::pair<std::string, std::string>> facts() override { return facts_; }

  void observe_all(Observer& observer) override {
    std::lock_guard lock(mutex_);
    run_.observer = &observer;
    std::call_once(listed_, [this] {
      list_all();
      kept_ = true;
    });
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
    show_lists();
    run_.observer = nullptr;
  }

  void observe_entry(std::size_t index, Observer& observer) override {
    entries();
    std::lock_guard lock(mutex_);
    Run::Scratch scratch(run_);
    std::vector<Value> slots;
    const EntryPlan& rule = restore(index, slots);
    Frame frame{run_, slots.data()};
    run_.observer = &observer;
    try {
      for (const EntryPlan::Loop& one : rule.loops)
        show_element(one, slots[one.slot + 1], slots[one.slot + 2]);
      for (const RoleKind& role : role_kinds()) {
        if (const NodePtr& node = rule.*role.member; node != nullptr) show_role(role, *node, frame);
      }
    } catch (...) {
      run_.observer = nullptr;
      throw;
    }
    run_.observer = nullptr;
  }

 private:
  std::shared_ptr<DescribedContent> described(std::size_t index) {
    Run::Scratch scratch(run_);
    std::vector<Value> slots;
    const EntryPlan& rule = restore(index, slots);
    Frame frame{run_, slots.data()};
    if (entries_[index].is(Entry::damaged)) {  // what could not be told when it was listed fails again
      Entry again;
      selects(rule, frame);
      fill_kind(rule, frame, again);
    }
    auto content = std::make_shared<DescribedContent>();
    content->plan = plan_;
    Value data = rule.data == nullptr ? Value{} : rule.data->value(frame);
    if (!data.there()) throw Malformed("the description finds no data for this entry");
    content->recipe = run_.recipe_of(data);
    if (rule.size != nullptr) content->expected.size = rule.size->size_if(frame, "a size");
    if (rule.crc32 != nullptr) content->expected.crc32 = sum_of(*rule.crc32, frame);
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
    Entry entry = {};
  };
  struct Listing {
    std::size_t rule;
    std::vector<Value> slots;  // with the outer loops' variables
  };
  struct Origin {
    std::uint32_t listing, index;
  };

  void list_all() {
    listings_.clear();
    count_ = beyond_ = nameless_ = 0;
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
        add_finding(Finding::Level::fault,
                    fmt::format("the listing ends after {} entries: {}", count_, error.what()));
      }
    }
    if (beyond_ > 0) {
      add_finding(
          Finding::Level::fault,
          fmt::format(
              "{} of {} entries reach beyond the end of the file, the first is \"{}\"; the file is cut short",
              beyond_, count_, escape(first_beyond_)),
          Finding::About::entries);
    }
    if (nameless_ > 0)
      add_finding(
          Finding::Level::warning,
          fmt::format("the paths of {} entries are empty or cannot be had; they are named entry-1 and so on",
                      nameless_));
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
    if (innermost && passing_ == nullptr && entries_.size() + count < run_.context().limits.max_entries) {
      entries_.reserve(entries_.size() + static_cast<std::size_t>(count));
      origins_.reserve(entries_.size() + static_cast<std::size_t>(count));
    }
    for (std::uint64_t i = 0; i < count; ++i) {
      run_.step(rule.where);
      set(loop_plan, slots, list, i);
      if (innermost) {
        one(rule, i, frame);
      } else {
        loop(rule, number, level + 1, slots);
      }
    }
  }

  void set(const EntryPlan::Loop& loop_plan, std::vector<Value>& slots, const Value& list,
           std::uint64_t index) {
    slots[loop_plan.slot] = run_.element(list, index);
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
      if (!selects(rule, frame)) return drop_entry();
      fill(rule, frame, entry);
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
    if (rule.also != nullptr) others = other_paths(rule, entry, frame);
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

  /// A new entry: one that is kept, or one that is only shown.
  Entry& begin_entry() {
    ++count_;
    if (passing_ == nullptr) return entries_.emplace_back();
    std::string room = std::move(passing_->entry.path);
    passing_->entry = {};
    passing_->entry.path = std::move(room);
    passing_->entry.path.clear();
    return passing_->entry;
  }
  void drop_entry() {
    --count_;
    if (passing_ == nullptr) entries_.pop_back();
  }
  void finish_entry(const Entry& entry, Origin origin) {
    if (passing_ != nullptr) {
      run_.context().limits.count_entry();
      return (*passing_->visitor)(entry);
    }
    run_.context().limits.count_kept(entry);
    origins_.push_back(origin);
  }

  std::vector<std::string> other_paths(const EntryPlan& rule, const Entry& entry, Frame& frame) {
    std::vector<std::string> others;
    optional_role(rule.also, "other paths", entry, [&](const Node& node) {
      Value paths = node.value(frame);
      for (std::uint64_t i = 0, count = paths.there() ? run_.count(paths) : 0; i < count; ++i) {
        run_.step(rule.where);
        others.push_back(run_.text(run_.element(paths, i)));
        clean_in_place(others.back());
      }
    });
    return others;
  }

  /// Whether the rule lists an entry for its element.
  bool selects(const EntryPlan& rule, Frame& frame) {
    if (rule.condition != nullptr && !rule.condition->truth(frame)) return false;
    check_element(rule, frame);
    return true;
  }

  /// A table's records are read field by field; their conditions are looked at here.
  void check_element(const EntryPlan& rule, Frame& frame) {
    if (rule.loops.empty()) return;
    const Value& element = frame.slots[rule.loops.back().slot];
    const StaticType type = rule.loops.back().list->type().element();
    if (element.kind == Value::Kind::placed && type.record->checks) run_.slots_of(element, *type.record);
  }

  void name_nameless(Entry& entry) {
    if (!entry.path.empty()) return;
    entry.path = fmt::format("entry-{}", count_);
    ++nameless_;
  }

  /// What a person can do without costs only itself when it cannot be had.
  template <typename Work>
  void optional_role(const NodePtr& node, std::string_view name, const Entry& entry, Work work) {
    if (node == nullptr) return;
    try {
      work(*node);
    } catch (const LimitExceeded&) {
      throw;
    } catch (const std::exception& thrown) {
      Error error = as_error(thrown);
      add_finding(Finding::Level::fault,
                  fmt::format("{}: its {}: {}", escape(entry.path), name, error.what()));
    }
  }

  /// A text; empty where it is not there.
  std::string text_if(const Node& node, Frame& frame) {
    Value text = node.value(frame);
    return text.there() ? run_.text(text) : "";
  }

  static std::optional<std::uint32_t> sum_of(const Node& node, Frame& frame) {
    auto sum = node.number_if(frame);
    return sum ? std::optional(static_cast<std::uint32_t>(*sum)) : std::nullopt;
  }

  static Timestamp time_of(Frame& frame, const Node& node) {
    Value value = node.value(frame);
    if (!value.there()) return {};
    return {value.a, static_cast<std::uint32_t>(value.b & 0xffffffff), (value.b & Value::kFloating) != 0};
  }

  void fill(const EntryPlan& rule, Frame& frame, Entry& entry) {
    optional_role(rule.path, "path", entry, [&](const Node& node) {
      node.text(frame, entry.path);
      if (!entry.path.empty()) clean_in_place(entry.path);
    });
    name_nameless(entry);
    fill_kind(rule, frame, entry);
    if (passing_ != nullptr && passing_->detail == Detail::paths) return;
    fill_optional(rule, frame, entry);
    if (entry.kind == EntryKind::file) fill_data(rule, frame, entry);
  }

  void fill_kind(const EntryPlan& rule, Frame& frame, Entry& entry) {
    if (rule.folder != nullptr && rule.folder->number_if(frame).value_or(0) != 0)
      entry.kind = EntryKind::folder;
    if (rule.link == nullptr) return;
    if (std::string target = text_if(*rule.link, frame); !target.empty()) {
      entry.kind = EntryKind::symbolic_link;
      entry.extras().link_target = std::move(target);
    }
  }

  void fill_optional(const EntryPlan& rule, Frame& frame, Entry& entry) {
    optional_role(rule.time, "time", entry, [&](const Node& node) { entry.modified = time_of(frame, node); });
    optional_role(rule.created, "time of creation", entry,
                  [&](const Node& node) { entry.extras().created = time_of(frame, node); });
    optional_role(rule.accessed, "time of access", entry,
                  [&](const Node& node) { entry.extras().accessed = time_of(frame, node); });
    optional_role(rule.mode, "mode", entry, [&](const Node& node) {
      if (auto mode = node.number_if(frame)) entry.mode = static_cast<std::uint32_t>(*mode) & 07777;
    });
    optional_role(rule.comment, "comment", entry, [&](const Node& node) {
      if (std::string text = text_if(node, frame); !text.empty()) entry.extras().comment = std::move(text);
    });
    optional_role(rule.kind, "kind", entry, [&](const Node& node) {
      if (std::string text = text_if(node, frame); !text.empty()) entry.extras().type_tag = std::move(text);
    });
    optional_role(rule.encrypted, "encryption", entry, [&](const Node& node) {
      if (node.number_if(frame).value_or(0) != 0) entry.flags |= Entry::encrypted;
    });
  }

  void fill_data(const EntryPlan& rule, Frame& frame, Entry& entry) {
    if (rule.crc32 != nullptr) {
      if (auto sum = sum_of(*rule.crc32, frame)) {
        entry.crc32 = *sum;
        entry.flags |= Entry::has_crc;
      }
    }
    for (const CheckPlan& check : rule.checks)
      if (check.expected->value(frame).there()) entry.flags |= Entry::has_sum;
    if (rule.size != nullptr) entry.size = rule.size->size_if(frame, "a size").value_or(Entry::kUnknownSize);
    if (rule.data == nullptr) {
      entry.size = entry.stored_size = 0;
      return;
    }
    outline_.placed = false;
    outline_.length.reset();
    outline_.steps.clear();
    rule.data->outline(frame, outline_);
    entry.method = method(outline_.steps);
    if (!outline_.length) return;
    entry.stored_size = *outline_.length;
    bool sizes_stay = std::all_of(outline_.steps.begin(), outline_.steps.end(),
                                  [](const StepKind* step) { return step->keeps_size; });
    if (sizes_stay && rule.size == nullptr) entry.size = *outline_.length;
    if (!outline_.placed) return;
    entry.offset = outline_.offset;
    std::uint64_t there = run_.region(outline_.region).size();
    if (outline_.offset > there || *outline_.length > there - outline_.offset) {
      entry.flags |= Entry::damaged;
      if (beyond_++ == 0) first_beyond_ = entry.path;
    }
  }

  /// The names of the steps joined; kept once.
  std::string_view method(const std::vector<const StepKind*>& steps) {
    if (steps.empty()) return "stored";
    if (steps.size() == 1) return steps[0]->name;
    std::string name;
    for (const StepKind* step : steps) name += fmt::format("{}{}", name.empty() ? "" : "+", step->name);
    for (const std::string& known : methods_) {
      if (known == name) return known;
    }
    return methods_.emplace_back(std::move(name));
  }

  /// The variables as they were when the entry was listed.
  const EntryPlan& restore(std::size_t index, std::vector<Value>& slots) {
    Origin origin = origins_[index];
    const Listing& listing = listings_[origin.listing];
    const EntryPlan& rule = plan_->entries[listing.rule];
    slots = listing.slots;
    if (!rule.loops.empty()) {
      const EntryPlan::Loop& innermost = rule.loops.back();
      set(innermost, slots, slots[innermost.slot + 1], origin.index);
    }
    Frame frame{run_, slots.data()};
    forget_variables(rule, frame);
    return rule;
  }

  /// Reads a loop's element once more, field by field.
  void show_element(const EntryPlan::Loop& loop_plan, const Value& list, const Value& number) {
    const StaticType type = loop_plan.list->type().element();
    Value element = run_.element(list, static_cast<std::uint64_t>(number.a));
    if (!element.there()) return;
    if (!type.is(StaticType::Base::record))
      return run_.observer->computed("element", value_text(run_, element));
    const RecordPlan& record = *type.record;
    Entered entered(run_, fmt::format("{}[{}]", record.name, number.a));
    std::vector<Value> slots(record.slots);
    std::uint64_t base = 0;
    if (element.kind == Value::Kind::instance) {
      const std::vector<Value>& read = run_.store().instances[element.object].slots;
      std::copy_n(read.begin(), record.parameters, slots.begin());
    } else if (element.kind == Value::Kind::item) {
      const List& items = run_.store().lists[element.object];
      std::copy(items.arguments.begin(), items.arguments.end(), slots.begin());
      base = items.offset;
    }
    Run::Where place = run_.where(element);
    Reader reader{place.region, base, place.offset, run_.region(place.region).size(), place.offset};
    Frame frame{run_, slots.data(), &reader};
    RecordRead::run_actions(record, frame, reader);
  }

  /// "53 bytes at 0x864, zlib", as far as that is known before anything is decoded.
  std::string outline_text(const Node& node, Frame& frame) {
    Outline outline;
    node.outline(frame, outline);
    std::string text = outline.length ? fmt::format("{} bytes", *outline.length) : "bytes";
    if (outline.placed) {
      text += fmt::format(" at 0x{:x}", outline.offset);
      if (const std::string& name = run_.region(outline.region).name(); !name.empty())
        text += fmt::format(" in {}", escape(name));
    }
    for (const StepKind* step : outline.steps) text += fmt::format(", {}", step->name);
    return text;
  }

  void show_role(const RoleKind& role, const Node& node, Frame& frame) {
    std::string text;
    try {
      Value value = node.value(frame);
      text = role.member == &EntryPlan::data ? outline_text(node, frame) : value_text(run_, value);
      if (role.member == &EntryPlan::data && value.there()) run_.mark_made(value, Cover::data);
    } catch (const LimitExceeded&) {
      throw;
    } catch (const std::exception& thrown) {
      Error error = as_error(thrown);
      text = fmt::format("cannot be had: {}", error.what());
    }
    run_.observer->computed(std::string(role.name), text);
  }

  /// Tables are read when they are asked for; for a trace their first records are read once more, field by
  /// field.
  void show_lists() {
    constexpr std::uint64_t kShown = 8;
    for (std::size_t i = 0; i < plan_->globals.size(); ++i) {
      const Value& value = run_.globals[i];
      if (value.kind != Value::Kind::list) continue;
      const List list = run_.store().lists[value.object];
      if (list.shape != List::Shape::strided) continue;
      for (std::uint64_t k = 0; k < std::min(kShown, list.count); ++k) {
        Entered entered(run_, fmt::format("{}[{}]", plan_->globals[i], k));
        std::uint64_t offset = list.offset + k * list.stride;
        Reader reader{list.region, 0, offset, offset + list.stride, offset};
        Frame frame{run_, nullptr, &reader};
        Value element = list.element->read(frame, reader);
        if (list.element->type.base != StaticType::Base::record)
          run_.observer->field("", run_.region(list.region), offset, list.stride,
                               value_text(run_, element, *list.element));
      }
    }
  }

  std::shared_ptr<const Plan> plan_;
  Input input_;
  SourcePtr source_;
  std::mutex mutex_;  // guards the run
  Run run_;
  std::once_flag listed_;
  std::atomic<bool> kept_ = false;  // entries_ is complete
  Passing* passing_ = nullptr;      // while entries are only shown
  std::vector<Entry> entries_;
  std::vector<Origin> origins_;
  std::vector<Listing> listings_;
  std::deque<std::string> methods_;
  Outline outline_;
  std::uint64_t count_ = 0, beyond_ = 0, nameless_ = 0;  // entries so far; of these, those that are odd
  std::string first_beyond_;
  std::vector<std::pair<std::string, std::string>> facts_;
};

}  // namespace

std::shared_ptr<DescribedContainer> open_described(std::shared_ptr<const Plan> plan, const Input& input,
                                                   SourcePtr source, OpenContext& context, Observer* observer,
                                                   Recorder* recorder) {
  return std::make_shared<Described>(std::move(plan), input, std::move(source), context, observer, recorder);
}

}  // namespace operculum::layout
