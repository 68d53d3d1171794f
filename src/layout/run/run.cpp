#include "layout/run/run.h"

#include <fmt/format.h>

#include <algorithm>
#include <utility>

#include "base/error.h"
#include "io/spool.h"

namespace operculum::layout {
namespace {

constexpr std::uint64_t kLeastSteps = 20'000'000;  // any container may cost that much
constexpr std::uint64_t kStepsAByte = 4;           // and this for each of its bytes
constexpr std::uint64_t kMostKept = 128 << 20;     // bytes of all texts and made bytes that are kept

/// Stops a part that unpacks to far more than the container has.
class MeteredStream final : public Stream {
 public:
  MeteredStream(StreamPtr inner, const Limits& limits, std::uint64_t stored)
      : inner_(std::move(inner)), meter_(limits, stored) {}
  std::size_t read(ByteSpan out) override {
    std::size_t count = inner_->read(out);
    meter_.add(count);
    return count;
  }

 private:
  StreamPtr inner_;
  Meter meter_;
};

}  // namespace

Run::Run(const Plan& plan, const Input& input, SourcePtr source, OpenContext& context)
    : globals(plan.globals.size()),
      plan_(plan),
      input_(input),
      context_(context),
      most_steps_(kLeastSteps + source->size() * kStepsAByte) {
  store_.add_region(std::move(source), "", Region::Origin{});
  region(0).recorded_at = 0;
}

void Run::fail(const Span& where, const std::string& text) const {
  throw Malformed(fmt::format("{}: {}", plan_.description.line_of(where.at), text));
}

void Run::add_damage(std::string sentence) {
  constexpr std::size_t kMost = 100;  // who has so many needs no more
  if (damage_.size() < kMost && std::find(damage_.begin(), damage_.end(), sentence) == damage_.end())
    damage_.push_back(std::move(sentence));
}

void Run::expect(const Node& condition, Frame& frame, const Span& where, const std::string& message) {
  std::string line = plan_.description.line_of(where.at);
  try {
    if (condition.truth(frame)) return;
    add_damage(
        fmt::format("{}: {}", line, message.empty() ? "a condition that should hold does not" : message));
  } catch (const TooDeep&) {
    throw;
  } catch (const Malformed& error) {
    add_damage(error.what());
  }
}

void Run::check_room(std::size_t count) const {
  if (count > context_.limits.max_entries)
    throw LimitExceeded(fmt::format("a list of more than {} elements; if that is right, raise --max-entries",
                                    context_.limits.max_entries));
}

void Run::fail_depth(const Span& where) const {
  throw TooDeep(fmt::format("{}: this goes more than {} levels deep; does it go round in a circle?",
                            plan_.description.line_of(where.at), kMaxDepth));
}

void Run::fail_steps(const Span& where) const {
  throw LimitExceeded(
      fmt::format("{}: the description takes more than {} steps on this file; does it go round in a circle?",
                  plan_.description.line_of(where.at), most_steps_));
}

void Run::count_kept(std::uint64_t bytes) {
  weigh(bytes);
  kept_bytes_ += bytes;
  if (kept_bytes_ > kMostKept)
    throw LimitExceeded("the texts and bytes that this description makes take more than 128 MiB");
}

Value Run::keep(std::string text) {
  count_kept(text.size() + sizeof(std::string));
  return store_.add(std::move(text));
}

Value Run::keep(Bytes bytes, std::string_view name) {
  std::uint64_t length = bytes.size();
  count_kept(length);
  return Value::bytes(
      store_.add_region(make_memory_source(std::move(bytes)), std::string(name), std::nullopt), 0, length);
}

Value Run::keep(std::exception_ptr failure) {
  constexpr std::uint64_t kFailureSize = 256;  // about what an exception and its sentence take, in bytes
  count_kept(kFailureSize);
  return store_.add(std::move(failure));
}

Run::Scratch::~Scratch() {
  Store& store = run_.store_;
  if (store.sizes == before_) return;
  // A part that an older value was decoded to lies among the new ones: then all of them stay, this once.
  for (std::size_t i = 0; i < before_.blobs && run_.lasting_ > 0; ++i) {
    if (store.blobs[i].region && *store.blobs[i].region >= before_.regions) return;
  }
  auto dropped = [&](const auto& one) { return one.first.second >= before_.lists; };
  std::erase_if(run_.sorted, dropped);
  std::erase_if(run_.by_key, dropped);
  store.shrink(before_);
  run_.kept_bytes_ = kept_bytes_;
  for (Cached& cached : run_.cache_) cached.record = nullptr;  // handles are given out anew
}

const List& Run::list_of(const Value& list) const {
  if (list.kind != Value::Kind::list) throw Malformed("a list is wanted here, and there is none");
  return store_.lists[list.object];
}

Blob& Run::blob_of(const Value& bytes) {
  if (bytes.kind != Value::Kind::blob) throw Malformed("bytes are wanted here, and there are none");
  return store_.blobs[bytes.object];
}

Value Run::element(const Value& list, std::uint64_t index) {
  const List& all = list_of(list);
  if (all.shape == List::Shape::offsets)
    return {static_cast<std::int64_t>(index), 0, list.object, Value::Kind::item};
  if (all.shape == List::Shape::range) return Value::of(all.first + static_cast<std::int64_t>(index));
  Value value;
  if (all.shape == List::Shape::values) {
    value = all.values[index];
  } else {
    std::uint64_t offset = all.offset + index * all.stride;
    if (all.element->type.base == StaticType::Base::record && !all.element->type.is_list())
      return {static_cast<std::int64_t>(offset), 0, all.region, Value::Kind::placed};
    Reader reader{all.region, 0, offset, offset + all.stride, offset};
    Frame frame{*this, nullptr, &reader};
    value = all.element->read(frame, reader);
  }
  if (value.kind == Value::Kind::bytes && all.element != nullptr &&
      all.element->type.is(StaticType::Base::text)) {
    std::string text;
    static_cast<const TextPlan*>(all.element)->decode(*this, value, text);
    return keep(std::move(text));
  }
  return value;
}

const Value* Run::slots_of(const Value& record, const RecordPlan& plan) {
  if (record.kind == Value::Kind::instance) return store_.instances[record.object].slots.data();
  for (Cached& cached : cache_) {
    if (recorder != nullptr) break;  // what is read again is to be told again
    if (cached.record == &plan && cached.object == record.object && cached.place == record.offset())
      return cached.slots.data();
  }
  std::vector<Value> slots(plan.slots);
  Reader reader;
  if (record.kind == Value::Kind::item) {
    const List& list = store_.lists[record.object];
    std::uint64_t offset = list.offsets[record.offset()];
    reader = {list.region, list.offset, offset, list.limit, offset};
    std::copy(list.arguments.begin(), list.arguments.end(), slots.begin());
  } else {
    reader = {record.object, 0, record.offset(), record.offset() + plan.fixed.value_or(0), record.offset()};
  }
  Frame frame{*this, slots.data(), &reader};
  Observer* told = std::exchange(observer, nullptr);  // it was told when the record was met first
  try {
    RecordRead::run_actions(plan, frame, reader);
  } catch (...) {
    observer = told;
    throw;
  }
  observer = told;
  Cached& cached = cache_[next_cached_++ % cache_.size()];
  cached = {&plan, record.object, record.offset(), std::move(slots)};
  return cached.slots.data();
}

Run::Where Run::where(const Value& record) {
  if (record.kind == Value::Kind::instance) {
    const Instance& instance = store_.instances[record.object];
    return {instance.region, instance.offset};
  }
  if (record.kind == Value::Kind::item) {
    const List& list = store_.lists[record.object];
    return {list.region, list.offsets[record.offset()]};
  }
  return {record.object, record.offset()};
}

RecipePtr Run::recipe_of(const Value& bytes) {
  auto recipe = std::make_shared<Recipe>();
  if (bytes.kind == Value::Kind::bytes) {
    Region& from = region(bytes.object);
    if (bytes.offset() > from.size() || bytes.b > from.size() - bytes.offset())
      from.at(bytes.offset(), bytes.b);  // throws
    recipe->source = make_slice(from.source(), bytes.offset(), bytes.b);
    if (from.recorded_at) recipe->at = *from.recorded_at + bytes.offset();
    return recipe;
  }
  const Blob& blob = blob_of(bytes);
  recipe->missing = blob.missing;
  for (const Value& part : blob.parts) recipe->parts.push_back(recipe_of(part));
  if (blob.inner.there()) {
    RecipePtr inner = recipe_of(blob.inner);
    *recipe = *inner;
  }
  recipe->steps.insert(recipe->steps.end(), blob.steps.begin(), blob.steps.end());
  return recipe;
}

std::uint64_t Run::length_of(const Value& bytes) {
  if (bytes.kind == Value::Kind::bytes) return bytes.b;
  return placed(bytes).length;
}

/// Counts a part that is decoded, tells of it, and gives what stands in for it.
StandIn Run::made_part(const RecipePtr& recipe) {
  std::size_t ordinal = parts_made_++;
  StandIn out = ordinal < stand_ins.parts.size() ? stand_ins.parts[ordinal] : StandIn{};
  if (recorder != nullptr) {
    recorder->parts.push_back({ordinal, recipe, recorder->numbers.size()});
    // What tells how long it is tells where the bytes keep their number how many there are to be decoded.
    bool has_own_size = std::any_of(recipe->steps.begin(), recipe->steps.end(),
                                    [](const Step& step) { return !step.kind->keeps_size; });
    if (out.bytes && has_own_size)
      recorder->withins.push_back({out.at, out.bytes->size(), recorder->numbers.size()});
  }
  return out;
}

Run::Piece Run::placed(const Value& bytes) {
  if (bytes.kind == Value::Kind::bytes) return {bytes.object, bytes.offset(), bytes.b};
  Blob& blob = blob_of(bytes);
  if (!blob.region) {
    RecipePtr recipe = recipe_of(bytes);
    StandIn stand_in = made_part(recipe);
    SourcePtr source = stand_in.bytes ? stand_in.bytes : plain_source(*recipe);
    if (!source) {
      MeteredStream stream(open_recipe(recipe, std::nullopt), context_.limits, region(0).size());
      source = spool(stream, context_.spool);
    }
    ++lasting_;
    // Bytes that a cipher changed one for one still have a place in the container.
    std::optional<Region::Origin> origin;
    bool same_size = blob.inner.kind == Value::Kind::bytes && blob.parts.empty();
    for (const Step& step : blob.steps) same_size &= step.kind->keeps_size;
    if (same_size) {
      Region& under = region(blob.inner.object);
      if (under.origin()) origin = {under.origin()->file, under.origin()->at + blob.inner.offset()};
    } else {
      mark_made(bytes, Cover::index);
    }
    blob.region = store_.add_region(std::move(source), "decoded part", std::move(origin));
    if (stand_in.bytes) region(*blob.region).recorded_at = stand_in.at;
  }
  return {*blob.region, 0, region(*blob.region).size()};
}

std::optional<std::uint32_t> Run::region_of_file(const std::string& name) {
  auto stand_in = stand_ins.files.find(name);
  SourcePtr source = stand_in != stand_ins.files.end() ? stand_in->second.bytes
                     : input_.sibling                  ? input_.sibling(name)
                                                       : nullptr;
  if (!source) return std::nullopt;
  if (recorder != nullptr) {
    bool known = std::any_of(recorder->files.begin(), recorder->files.end(),
                             [&](const FileRead& one) { return one.name == name; });
    if (!known) recorder->files.push_back({name, source});
  }
  std::uint32_t number = store_.add_region(std::move(source), name, Region::Origin{name, 0});
  if (stand_in != stand_ins.files.end()) region(number).recorded_at = stand_in->second.at;
  return number;
}

void Run::mark_made(const Value& bytes, Cover what) {
  if (observer == nullptr) return;
  if (bytes.kind == Value::Kind::bytes) mark(bytes.object, bytes.offset(), bytes.b, what);
  if (bytes.kind != Value::Kind::blob) return;
  const Blob& blob = store_.blobs[bytes.object];
  if (blob.inner.there()) mark_made(blob.inner, what);
  for (const Value& part : blob.parts) mark_made(part, what);
}

bool Run::has_place(const Value& bytes) {
  if (bytes.kind == Value::Kind::bytes) return bytes.b > 0 && region(bytes.object).origin().has_value();
  if (bytes.kind != Value::Kind::blob) return false;
  const Blob& blob = store_.blobs[bytes.object];
  return has_place(blob.inner) || std::any_of(blob.parts.begin(), blob.parts.end(),
                                              [this](const Value& part) { return has_place(part); });
}

Bytes Run::small_bytes(const Value& bytes) {
  Piece piece = placed(bytes);
  if (piece.length > kSmall)
    throw LimitExceeded("more than 16 MiB are looked at as one value; use them as data instead");
  weigh(piece.length);
  mark_made(bytes, cover);
  ByteView view = region(piece.region).at(piece.offset, piece.length);
  return Bytes(view.begin(), view.end());
}

}  // namespace operculum::layout
