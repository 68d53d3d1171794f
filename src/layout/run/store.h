#pragma once

#include <deque>
#include <exception>
#include <memory>

#include "layout/run/recipe.h"
#include "layout/run/region.h"
#include "layout/run/value.h"

namespace operculum::layout {

struct ReadPlan;
struct RecordPlan;

/// Bytes that have to be made first.
struct Blob {
  Value inner;               // when there are no parts
  std::vector<Value> parts;  // joined
  std::vector<Step> steps;
  std::string missing;                  // a file that is not there
  std::optional<std::uint32_t> region;  // once it was decoded
};

/// A record that was read: its parameters and fields lie in `slots`, as its plan numbers them.
struct Instance {
  const RecordPlan* record = nullptr;
  std::uint32_t region = 0;
  std::uint64_t offset = 0, end = 0;  // in the region
  std::vector<Value> slots;
};

/// Elements one after another. Three shapes: of fixed size and read when asked for; records whose offsets are
/// kept; or values.
struct List {
  enum class Shape { strided, offsets, values, range };
  Shape shape = Shape::values;
  const ReadPlan* element = nullptr;  // of what was read from bytes
  std::uint32_t region = 0;
  std::uint64_t offset = 0, stride = 0, count = 0;
  std::int64_t first = 0;  // of a range: `count` numbers in a row
  std::vector<std::uint64_t> offsets;
  std::uint64_t limit = 0;           // where the elements with offsets must end
  std::uint64_t begin = 0, end = 0;  // of what was read one after another, in the region
  std::vector<Value> arguments;      // of records that take some
  std::vector<Value> values;
  std::vector<std::int64_t> parents;   // of a tree: the place of the element above, or -1
  std::vector<std::int64_t> siblings;  // of a tree: how many children its parent has before it

  std::uint64_t size() const {
    if (shape == Shape::strided || shape == Shape::range) return count;
    return shape == Shape::offsets ? offsets.size() : values.size();
  }
};

/// Owns everything that values name. References stay valid while it grows.
struct Store {
  std::vector<std::unique_ptr<Region>> regions;
  std::deque<std::string> texts;
  std::deque<Blob> blobs;
  std::deque<Instance> instances;
  std::deque<List> lists;
  std::deque<std::exception_ptr> failures;

  /// How many of each there are.
  struct Sizes {
    std::uint32_t regions = 0, texts = 0, blobs = 0, instances = 0, lists = 0, failures = 0;
    bool operator==(const Sizes&) const = default;
  };
  Sizes sizes;

  Value add(std::string text) {
    texts.push_back(std::move(text));
    return {0, 0, sizes.texts++, Value::Kind::text};
  }
  Value add(Blob blob) {
    blobs.push_back(std::move(blob));
    return {0, 0, sizes.blobs++, Value::Kind::blob};
  }
  Value add(Instance instance) {
    instances.push_back(std::move(instance));
    return {0, 0, sizes.instances++, Value::Kind::instance};
  }
  Value add(List list) {
    lists.push_back(std::move(list));
    return {0, 0, sizes.lists++, Value::Kind::list};
  }
  Value add(std::exception_ptr failure) {
    failures.push_back(std::move(failure));
    return {0, 0, sizes.failures++, Value::Kind::failed};
  }
  std::uint32_t add_region(SourcePtr source, std::string name, std::optional<Region::Origin> origin) {
    regions.push_back(std::make_unique<Region>(std::move(source), std::move(name), std::move(origin)));
    return sizes.regions++;
  }

  /// Drops what was added since.
  void shrink(const Sizes& before) {
    auto drop = [](auto& deque, std::uint32_t size) {
      while (deque.size() > size) deque.pop_back();
    };
    drop(regions, before.regions);
    drop(texts, before.texts);
    drop(blobs, before.blobs);
    drop(instances, before.instances);
    drop(lists, before.lists);
    drop(failures, before.failures);
    sizes = before;
  }
};

}  // namespace operculum::layout
