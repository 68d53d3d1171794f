#include "layout/described_content.h"

#include <utility>

#include "base/error.h"
#include "base/sum_kinds.h"

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

}  // namespace

StreamPtr DescribedContent::stream() const {
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

SourcePtr DescribedContent::source() const {
  SourcePtr plain = plain_source(*recipe);
  return plain && (!expected.size || plain->size() == *expected.size) ? plain : nullptr;
}

}  // namespace operculum::layout
