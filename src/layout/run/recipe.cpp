#include "layout/run/recipe.h"

#include <cerrno>

#include "base/error.h"

namespace operculum::layout {
namespace {

/// The parts one after another, each opened when the one before it has ended.
class PartsStream final : public Stream {
 public:
  explicit PartsStream(RecipePtr recipe) : recipe_(std::move(recipe)) {}
  std::size_t read(ByteSpan out) override {
    for (;;) {
      if (!stream_) {
        if (next_ == recipe_->parts.size()) return 0;
        stream_ = open_recipe(recipe_->parts[next_++], std::nullopt);
      }
      if (std::size_t count = stream_->read(out)) return count;
      stream_.reset();
    }
  }

 private:
  RecipePtr recipe_;
  std::size_t next_ = 0;
  StreamPtr stream_;
};

StreamPtr open_bytes(const RecipePtr& recipe) {
  if (!recipe->missing.empty()) throw IoError(recipe->missing, ENOENT);
  if (recipe->source) return make_source_stream(recipe->source);
  return std::make_unique<PartsStream>(recipe);
}

}  // namespace

StreamPtr open_recipe(const RecipePtr& recipe, std::optional<std::uint64_t> size) {
  if (recipe->source && recipe->steps.size() == 1 && size) {
    const Codec* codec = find_codec(recipe->steps[0].kind->name);
    if (codec != nullptr && codec->whole != nullptr)
      return open_sized_decoder(*codec, recipe->source, *size, {});
  }
  StreamPtr stream = open_bytes(recipe);
  for (std::size_t i = 0; i < recipe->steps.size(); ++i) {
    const Step& step = recipe->steps[i];
    bool sizes_stay = true;
    for (std::size_t later = i + 1; later < recipe->steps.size(); ++later)
      sizes_stay &= recipe->steps[later].kind->keeps_size;
    stream = step.kind->open(std::move(stream), step.arguments, sizes_stay ? size : std::nullopt);
  }
  return stream;
}

SourcePtr plain_source(const Recipe& recipe) {
  if (!recipe.steps.empty() || !recipe.missing.empty()) return nullptr;
  if (recipe.source) return recipe.source;
  std::vector<SourcePtr> sources;
  for (const RecipePtr& part : recipe.parts) {
    SourcePtr source = plain_source(*part);
    if (!source) return nullptr;
    sources.push_back(std::move(source));
  }
  return make_joined(std::move(sources));
}

std::string method_of(const Recipe& recipe) {
  std::string text =
      recipe.parts.empty() || recipe.parts[0]->steps.empty() ? "" : method_of(*recipe.parts[0]);
  for (const Step& step : recipe.steps) {
    if (step.kind->name == "stored") continue;
    if (!text.empty()) text += '+';
    text += step.kind->name;
  }
  return text.empty() ? "stored" : text;
}

}  // namespace operculum::layout
