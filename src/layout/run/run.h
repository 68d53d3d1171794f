#pragma once

#include <functional>
#include <unordered_map>
#include <utility>

#include "container/format.h"
#include "layout/plan/plan.h"
#include "layout/run/key_index.h"
#include "layout/run/recorder.h"
#include "layout/run/store.h"

namespace operculum::layout {

/// A description that goes round in a circle: no variable's own affair.
struct TooDeep : Malformed {
  using Malformed::Malformed;
};

/// What bytes were read for.
enum class Cover { header, index, data, padding };

/// Told of everything that is read; for the trace and the coverage of `layout check`.
class Observer {
 public:
  virtual ~Observer() = default;
  virtual void enter(const std::string& name) = 0;
  virtual void leave() = 0;
  virtual void field(const std::string& name, const Region& region, std::uint64_t offset, std::uint64_t size,
                     const std::string& value) = 0;
  /// A value that was worked out.
  virtual void computed(const std::string& name, const std::string& value) = 0;
  /// A field that cannot be read, and why.
  virtual void failed(const std::string& name, const Region& region, std::uint64_t offset,
                      const std::string& why) = 0;
  virtual void covered(const Region& region, std::uint64_t offset, std::uint64_t size, Cover cover) = 0;
};

/// What is read in the place of a part that would have to be decoded, or of a file beside the container.
struct StandIn {
  SourcePtr bytes;       ///< null: none
  std::uint64_t at = 0;  ///< the offset that a recorder is told for its first byte
};
/// What is read in place of parts and files, where a change is tried.
struct StandIns {
  std::vector<StandIn> parts;  ///< for the parts that are decoded first, in their order
  std::map<std::string, StandIn, std::less<>> files;
};

/// One container being read by a plan: its regions, its values, and what it may still cost. Used by one
/// thread at a time.
class Run {
 public:
  Run(const Plan& plan, const Input& input, SourcePtr source, OpenContext& context);

  const Plan& plan() const { return plan_; }
  Store& store() { return store_; }
  OpenContext& context() { return context_; }
  Region& region(std::uint32_t number) { return *store_.regions[number]; }
  std::vector<Value> globals;
  bool big = false;  ///< the byte order of numbers that do not state theirs
  Observer* observer = nullptr;
  Recorder* recorder = nullptr;  ///< told of what is read of the container itself, and of stand-ins
  StandIns stand_ins;
  Cover cover = Cover::index;

  /// Counts work; throws LimitExceeded when a description makes too much of it. `where` names the line.
  void step(const Span& where, std::uint64_t count = 1) {
    where_ = &where;
    steps_ += count;
    if (steps_ > most_steps_) fail_steps(where);
  }
  /// The same for work on so many bytes, at the place of the last step.
  void weigh(std::uint64_t bytes) {
    constexpr std::uint64_t kBytesAStep = 16;
    steps_ += bytes / kBytesAStep;
    if (steps_ > most_steps_) fail_steps(where_ == nullptr ? Span{} : *where_);
  }
  void mark(std::uint32_t region, std::uint64_t offset, std::uint64_t size, Cover what) {
    if (observer != nullptr) observer->covered(*store_.regions[region], offset, size, what);
  }

  /// Throws what a variable failed with, when it did.
  void check_had(const Value& value) const {
    if (value.kind == Value::Kind::failed) std::rethrow_exception(store_.failures[value.object]);
  }
  /// The same for bytes however they are made: what they are decoded from, and each part that is joined.
  void mark_made(const Value& bytes, Cover what);
  /// Which offset a recorder is to be told for the first byte of a region; nothing where it is told nothing.
  std::optional<std::uint64_t> recorded(std::uint32_t number) const {
    return recorder == nullptr ? std::nullopt : store_.regions[number]->recorded_at;
  }
  /// Where what is compared is kept; null where nobody wants it.
  Compared* compared() const { return recorder == nullptr ? nullptr : recorder->compared; }
  /// Keeps bytes that have to stand at an offset of a region, where somebody wants it.
  void wants(std::uint32_t number, std::uint64_t offset, std::string_view bytes) {
    Compared* kept = compared();
    if (auto base = kept == nullptr ? std::nullopt : recorded(number))
      kept->constants.push_back({*base + offset, std::string(bytes)});
  }
  bool has_place(const Value& bytes);  ///< whether some of these bytes are a file's own
  Value keep(std::string text);        ///< throws LimitExceeded when all that is kept takes too much memory
  Value keep(Bytes bytes, std::string_view name);  ///< likewise, as a region of its own
  Value keep(std::exception_ptr failure);          ///< likewise: what check_had() throws
  std::string& text(const Value& value) { return store_.texts[value.object]; }

  /// Gives back what was made since, once nothing names it any more: an entry's variables, keys, texts.
  class Scratch {
   public:
    explicit Scratch(Run& run) : run_(run), before_(run.store_.sizes), kept_bytes_(run.kept_bytes_) {
      run.lasting_ = 0;
    }
    ~Scratch();
    Scratch(const Scratch&) = delete;
    Scratch& operator=(const Scratch&) = delete;

   private:
    Run& run_;
    Store::Sizes before_;
    std::uint64_t kept_bytes_;
  };

  // Lists and records
  void check_room(std::size_t count) const;  ///< throws LimitExceeded for a list of more elements
  std::uint64_t count(const Value& list) const { return list_of(list).size(); }  ///< throws as list_of()
  Value element(const Value& list, std::uint64_t index);
  /// The slots of a record, read when it was not kept; valid until a few more were read.
  const Value* slots_of(const Value& record, const RecordPlan& plan);
  /// Where a record lies.
  struct Where {
    std::uint32_t region;
    std::uint64_t offset;
  };
  Where where(const Value& record);

  // Bytes
  RecipePtr recipe_of(const Value& bytes);
  std::uint64_t length_of(const Value& bytes);
  /// A run of some region that holds these bytes; what has to be made is made once.
  struct Piece {
    std::uint32_t region;
    std::uint64_t offset, length;
  };
  Piece placed(const Value& bytes);
  Bytes small_bytes(const Value& bytes);  ///< up to kSmall of them; throws LimitExceeded beyond
  std::string bytes_text(const Value& bytes) {
    Bytes all = small_bytes(bytes);
    return std::string(as_text(all));
  }
  static constexpr std::uint64_t kSmall = 16 << 20;

  /// All of a file beside the container, as a region of its own; nothing where there is none.
  std::optional<std::uint32_t> region_of_file(const std::string& name);
  const Input& input() const { return input_; }

  /// What is damaged although it can be read on: told beside what is found. Each sentence is kept once.
  void add_damage(std::string sentence);
  std::vector<std::string> take_damage() { return std::exchange(damage_, {}); }
  /// Looks whether a condition holds; damage when it does not, or cannot be told.
  void expect(const Node& condition, Frame& frame, const Span& where, const std::string& message);

  [[noreturn]] void fail(const Span& where, const std::string& text) const;
  [[noreturn]] void fail_depth(const Span& where) const;  ///< throws TooDeep

  static constexpr int kMaxDepth = 300;  ///< records and calls within each other
  /// Counts how deep records and calls are within each other.
  struct Deeper {
    Deeper(Run& run, const Span& where) : run_(run) {
      if (++run_.depth_ > kMaxDepth) {
        --run_.depth_;
        run_.fail_depth(where);
      }
    }
    ~Deeper() { --run_.depth_; }
    Deeper(const Deeper&) = delete;
    Deeper& operator=(const Deeper&) = delete;
    Run& run_;
  };

  /// Nothing is recorded of what is read meanwhile.
  struct Unrecorded {
    explicit Unrecorded(Run& run) : run_(run), recorder_(std::exchange(run.recorder, nullptr)) {}
    ~Unrecorded() { run_.recorder = recorder_; }
    Unrecorded(const Unrecorded&) = delete;
    Unrecorded& operator=(const Unrecorded&) = delete;
    Run& run_;
    Recorder* recorder_;
  };

  /// Sorted values of an expression over a whole list; see above() in the reference.
  std::map<std::pair<const void*, std::uint32_t>, std::vector<std::int64_t>> sorted;
  /// Elements by their keys; see "Looking up" in the reference.
  std::map<std::pair<const void*, std::uint32_t>, KeyIndex> by_key;
  /// Names by hash; see known() in the reference.
  std::map<std::string, std::unordered_map<std::uint64_t, std::string>> names_by_hash;

 private:
  /// What a value stands for; throws Malformed where it stands for nothing, such as a field that is not
  /// there.
  const List& list_of(const Value& list) const;
  Blob& blob_of(const Value& bytes);

  void count_kept(std::uint64_t bytes);
  StandIn made_part(const RecipePtr& recipe);
  [[noreturn]] void fail_steps(const Span& where) const;

  std::vector<std::string> damage_;
  std::size_t parts_made_ = 0;
  const Plan& plan_;
  Input input_;
  OpenContext& context_;
  Store store_;
  std::uint64_t steps_ = 0, most_steps_, kept_bytes_ = 0;
  const Span* where_ = nullptr;  // of the last step
  std::uint64_t lasting_ = 0;    ///< parts decoded for values that outlive the scratch at hand
  int depth_ = 0;
  struct Cached {
    const RecordPlan* record = nullptr;
    std::uint32_t object = 0;
    std::uint64_t place = 0;
    std::vector<Value> slots;
  };
  std::array<Cached, 16> cache_;
  std::size_t next_cached_ = 0;
};

}  // namespace operculum::layout
