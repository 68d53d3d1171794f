#include "container/locator.h"

#include <fmt/format.h>

#include <algorithm>
#include <utility>

#include "base/error.h"
#include "base/text.h"
#include "container/parts.h"

namespace operculum {
namespace {

/// Tells how far the outermost file has been read.
class WatchedSource final : public Source {
 public:
  WatchedSource(SourcePtr inner, std::shared_ptr<Spent> spent)
      : inner_(std::move(inner)), spent_(std::move(spent)) {}
  std::uint64_t size() const override { return inner_->size(); }
  std::size_t read_at(std::uint64_t offset, ByteSpan out) const override {
    std::size_t count = inner_->read_at(offset, out);
    if (offset + count > spent_->reached) spent_->reached = offset + count;
    return count;
  }
  std::optional<ByteView> view() const override { return inner_->view(); }
  std::uint64_t hole_at(std::uint64_t offset) const override { return inner_->hole_at(offset); }
  std::uint64_t grain() const override { return inner_->grain(); }
  std::optional<SourceRun> origin_at(std::uint64_t offset) const override {
    if (offset >= inner_->size()) return std::nullopt;
    return SourceRun{inner_.get(), offset, inner_->size() - offset};
  }

 private:
  SourcePtr inner_;
  std::shared_ptr<Spent> spent_;
};

SourcePtr make_watched(SourcePtr inner, std::shared_ptr<Spent> spent) {
  return std::make_shared<WatchedSource>(std::move(inner), std::move(spent));
}

/// "; it looks like a tide log, but ...", or nothing.
std::string almost_text(const std::vector<std::string>& almost) {
  return almost.empty() ? "" : fmt::format("; {}", fmt::join(almost, "; "));
}

/// Walks inwards, one container a turn.
class Resolver {
 public:
  Resolver(Place& place, OpenContext& context, Step step, std::string rest)
      : place_(place), context_(context), step_(step), rest_(std::move(rest)) {
    while (rest_.ends_with('/')) rest_.pop_back();
  }

  void run() {
    while (enter()) {
      if (place_.layers.back().format->single_stream) {
        step_through();
      } else if (rest_.empty() || !find_entry()) {
        return;
      }
    }
  }

 private:
  /// Opens place_.content as the next layer; false when the walk ends before it.
  bool enter() {
    bool final = rest_.empty();
    if (final && stays_outside()) return false;
    Opened opened;
    try {
      check_depth(place_.layers.size() + 1, context_.limits);
      Input input{place_.content, place_.name, sibling_};
      opened = open_container(input, context_);
      place_.content = opened.content;
    } catch (const IoError&) {
      throw;  // that says nothing about what it is
    } catch (const std::bad_alloc&) {
      throw;
    } catch (const std::exception&) {
      if (final && !place_.layers.empty() && place_.entry) return false;  // its bytes can still be had
      throw;
    }
    place_.almost = opened.almost;
    if (!opened.container) {
      if (!final) {
        throw Malformed(
            fmt::format("\"{}\" is no container that this program knows, so \"{}\" cannot be found in it{}",
                        escape(place_.name), escape(rest_), almost_text(opened.almost)));
      }
      return false;
    }
    if (final && !context_.preferred.empty()) {  // what a person named and what does not fit is told
      for (const std::string& sentence : std::exchange(place_.almost, {}))
        opened.container->add_finding(Finding::Level::warning, sentence);
    }
    place_.layers.push_back(
        {opened.format, opened.container, place_.name, stored_size_, opened.content, place_.entry});
    place_.entry.reset();
    place_.inside.clear();
    return true;
  }

  /// Whether the file or entry that the locator ends at is left as it is.
  bool stays_outside() const {
    if (place_.layers.empty()) return step_ == Step::bytes;
    const Format& outer = *place_.layers.back().format;
    if (step_ == Step::into || outer.single_stream) return false;
    return step_ != Step::file || outer.family != "partition table";
  }

  /// Takes the one entry of a single-stream layer as the next bytes.
  void step_through() {
    Layer& layer = place_.layers.back();
    std::span<const Entry> entries = layer.container->entries();
    const Entry& entry = entries[0];
    if (rest_ == entry.path || rest_.starts_with(entry.path + "/")) {
      rest_.erase(0, std::min(rest_.size(), entry.path.size() + 1));
    }
    take(std::shared_ptr<const Entry>(layer.container, &entry), [&] { return layer.container->content(0); });
  }

  /// Follows rest_ to an entry; false when the walk ends here.
  bool find_entry() {
    Layer& layer = place_.layers.back();
    Lookup found = layer.container->find(rest_);
    if (found.kind == Lookup::Kind::nothing) {  // as it is printed, with escapes
      auto plain = unescape(rest_);
      if (plain && *plain != rest_) {
        Lookup unescaped = layer.container->find(*plain);
        if (unescaped.kind != Lookup::Kind::nothing) {
          found = std::move(unescaped);
          rest_ = std::move(*plain);
        }
      }
    }
    if (found.kind == Lookup::Kind::nothing) fail_unknown(layer, found.similar);
    if (found.kind == Lookup::Kind::folder) {
      place_.inside = found.path;
      place_.name = base_name(found.path);
      place_.content = nullptr;
      return false;
    }
    rest_.erase(0, std::min(rest_.size(), found.consumed + 1));
    const Entry& entry = *found.entry;
    if (!entry.has_data()) {
      if (!rest_.empty()) {
        throw Malformed(fmt::format("\"{}\" is a {}, so \"{}\" cannot be found in it", escape(entry.path),
                                    name_of(entry.kind), escape(rest_)));
      }
      place_.inside = entry.path;
      place_.entry = found.entry;
      place_.content = nullptr;
      place_.name = base_name(entry.path);
      return false;
    }
    take(found.entry, found.open);
    return true;
  }

  void take(const std::shared_ptr<const Entry>& entry, const std::function<ContentPtr()>& open) {
    ContainerPtr container = place_.layers.back().container;
    place_.entry = entry;
    place_.inside = entry->path;
    place_.name = base_name(entry->path);
    stored_size_ = entry->size;
    try {
      place_.content = open();
    } catch (const std::exception& thrown) {
      Error error = as_error(thrown);
      rethrow_within(error, entry->path);
    }
    sibling_ = entry_sibling(container, entry->path, context_, sibling_);
  }

  [[noreturn]] static void rethrow_within(const Error& error, const std::string& path) {
    std::string text = fmt::format("{}: {}", escape(path), error.what());
    switch (error.kind()) {
      case ErrorKind::needs_key:
        throw NeedsKey(text);
      case ErrorKind::limit_exceeded:
        throw LimitExceeded(text);
      case ErrorKind::malformed:
        throw Malformed(text);
      default:
        throw;
    }
  }

  [[noreturn]] void fail_unknown(const Layer& layer, const std::string& similar) const {
    if (!similar.empty()) {
      throw Malformed(fmt::format("there is no entry \"{}\" in \"{}\"; did you mean \"{}\"?", escape(rest_),
                                  escape(layer.name), escape(similar)));
    }
    throw Malformed(
        fmt::format("there is no entry \"{}\" in \"{}\"; `operculum list --paths` shows what there is",
                    escape(rest_), escape(layer.name)));
  }

 public:
  Beside sibling_;
  std::uint64_t stored_size_ = 0;

 private:
  Place& place_;
  OpenContext& context_;
  Step step_;
  std::string rest_;
};

}  // namespace

std::string no_container_text(const Place& place, std::string_view what_to_try) {
  return fmt::format("it is no container that this program knows{}",
                     place.almost.empty() ? std::string(what_to_try) : almost_text(place.almost));
}

void check_depth(std::uint64_t depth, const Limits& limits) {
  if (depth > limits.max_depth) {
    throw LimitExceeded(
        fmt::format("more than {} containers lie inside each other, as in files made to be endless; if "
                    "that is right, raise --max-depth",
                    limits.max_depth));
  }
}

Place resolve(const std::string& locator, OpenContext& context, Step step) {
  OuterFile outer = open_outer_file(locator, context);
  Place place;
  place.file = outer.name;
  place.parts = outer.parts;
  place.name = base_name(outer.name);
  std::uint64_t size = Entry::kUnknownSize;
  if (outer.source) {
    place.file_source = make_watched(outer.source, context.limits.spent);
    place.content = make_content(place.file_source);
    size = place.file_source->size();
    context.limits.begin(size, outer.stored);
  } else {
    place.content = outer.content;  // counts as it comes
  }
  Resolver resolver(place, context, step, outer.rest);
  resolver.sibling_ = outer.sibling;
  resolver.stored_size_ = size;
  resolver.run();
  return place;
}

}  // namespace operculum
