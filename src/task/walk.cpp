#include "task/walk.h"

#include <fmt/format.h>

#include <algorithm>
#include <exception>

#include "base/text.h"
#include "container/parts.h"
#include "io/digest.h"
#include "io/fronted_stream.h"
#include "task/kinds.h"

namespace operculum {
namespace {

constexpr std::uint64_t kDecodeOnce =
    1 << 20;  // entries up to this size, in bytes, are kept while they are looked at

/// Fails as the stream did that it stands for.
class BrokenStream final : public Stream {
 public:
  BrokenStream() = default;  // within a catch block: stands for what was caught
  std::size_t read(ByteSpan) override { std::rethrow_exception(error_); }

 private:
  std::exception_ptr error_ = std::current_exception();
};

class Walk {
 public:
  Walk(OpenContext& context, const WalkOptions& options, const WalkEvents& events)
      : context_(context), options_(options), events_(events) {
    if (options.kinds) kinds_ = std::make_unique<KindReader>(context);
  }

  bool run(const Format& format, const ContainerPtr& container, const std::string& prefix,
           const SourcePtr& bytes, bool covered) {
    ancestors_.push_back(bytes);
    covered_.push_back(covered || format.checks_data);
    bool go_on = true;
    auto visitor = [&](const Visit& visit) {
      if (!prefix.empty()) context_.limits.count_entry();
      std::string path = prefix + visit.entry.path;
      go_on = !options_.deep || !visit.entry.has_data()
                  ? hand_out(format, *container, visit, path, visit.content, visit.stream)
                  : look_inside(format, container, visit, path);
      return go_on;
    };
    if (events_.worth(*container)) container->walk(visitor);
    ancestors_.pop_back();
    covered_.pop_back();
    if (go_on) events_.leave(prefix.empty() ? "" : prefix.substr(0, prefix.size() - 1), *container);
    return go_on;
  }

 private:
  bool hand_out(const Format& format, Container& container, const Visit& visit, const std::string& path,
                ContentPtr content, Stream* stream) {
    Found found{visit.entry,        path,   format,     container, covers(visit), ancestors_.size() - 1,
                std::move(content), stream, visit.lane, {},        visit.index};
    return kinds_ && visit.entry.has_data() ? hand_out_with_kind(found) : events_.found(found);
  }

  /// What was read to tell the kind is given back in front of the rest.
  bool hand_out_with_kind(Found found) {
    if (found.stream != nullptr) {
      Bytes head = read_head(found, *found.stream);
      StreamPtr all = make_fronted(std::move(head), make_borrowed(*found.stream));
      found.stream = broken_ ? static_cast<Stream*>(broken_.get()) : all.get();
      return events_.found(found);
    }
    try {
      if (SourcePtr source = found.content->source(); source && !source->costly()) {
        Probe probe(std::move(source), "");
        found.kind = kinds_->kind(probe, found.path);
      } else {
        LookedAt looked = look_at_front(found.content, kKindHead);
        tell_kind(found, looked.front);
        found.content = looked.content;
      }
    } catch (const std::exception& thrown) {
      Error error = as_error(thrown);
      found.kind = kind_of_error(error);  // told again when the data is read
    }
    return events_.found(found);
  }

  void tell_kind(Found& found, const Bytes& head) {
    Probe probe(head, head.size() < kKindHead, "");
    found.kind = kinds_->kind(probe, found.path);
  }

  /// The first bytes, from which the kind is told; `broken_` stands for what reading them threw.
  Bytes read_head(Found& found, Stream& stream) {
    Bytes head(kKindHead);
    broken_.reset();
    try {
      head.resize(read_fully(stream, head));
      tell_kind(found, head);
    } catch (const std::exception& thrown) {
      Error error = as_error(thrown);
      found.kind = kind_of_error(error);
      broken_ = std::make_unique<BrokenStream>();
    }
    return head;
  }

  static std::string_view kind_of_error(const Error& error) {
    return error.kind() == ErrorKind::needs_key ? "encrypted" : "unreadable";
  }

  /// Hands out the entry, or what is in it when it is a container.
  bool look_inside(const Format& format, const ContainerPtr& container, const Visit& visit,
                   const std::string& path) {
    if (!events_.enter(path, visit.entry))
      return hand_out(format, *container, visit, path, visit.content, visit.stream);
    ContentPtr content = visit.content;
    Opened inner;
    std::string name(base_name(visit.entry.path));
    if (visit.stream != nullptr) {
      Front front;
      try {
        front = read_front(*visit.stream);
      } catch (const std::exception&) {
        BrokenStream broken;  // told when the entry is read
        return hand_out(format, *container, visit, path, nullptr, &broken);
      }
      Probe probe(front.bytes, front.complete, name);
      StreamPtr all = make_fronted(std::move(front.bytes), make_borrowed(*visit.stream));
      const Format* within = recognise(probe, context_);
      if (within == nullptr || !may_enter(*within))
        return hand_out(format, *container, visit, path, nullptr, all.get());
      content = make_content(spool(*all, context_.spool));
    } else if (visit.entry.size <= kDecodeOnce) {
      content = kept_in_memory(content);
    }
    SourcePtr bytes;
    try {
      check_depth(ancestors_.size() + 1, context_.limits);
      inner = open_container({content, name, entry_sibling(container, visit.entry.path, context_)}, context_);
      content = inner.content;
      if (inner.container && !may_enter(*inner.format)) inner = {};
      if (inner.container) {
        bytes = content->source();
        check_not_itself(bytes);
      }
    } catch (const LimitExceeded&) {
      throw;
    } catch (const std::exception& thrown) {
      Error error = as_error(thrown);
      if (error.kind() != ErrorKind::needs_key) events_.unreadable(path, error);
      inner = {};
    }
    if (!inner.container) return hand_out(format, *container, visit, path, content, nullptr);
    events_.container({visit.entry, path, format, *container, covers(visit), ancestors_.size() - 1, content,
                       nullptr, visit.lane, "container"});
    bool go_on = run(*inner.format, inner.container, path + "/", bytes, covers(visit));
    if (go_on && options_.whole && visit.content && covers(visit) && visit.content->source())
      check_whole(visit, path);
    return go_on;
  }

  /// Whoever wants what is in the containers of a package rarely wants its programs taken apart.
  bool may_enter(const Format& format) const {
    return options_.programs || (format.kind != "executable" && format.kind != "script");
  }

  /// What was read through random access was compared with nothing: its stream is read once more for that.
  void check_whole(const Visit& visit, const std::string& path) const {
    try {
      StreamPtr stream = visit.content->stream();
      Bytes block(kDecodeOnce);
      while (stream->skip_hole() + stream->read(block) > 0) continue;
    } catch (const std::exception& thrown) {
      events_.differs(path, as_error(thrown));
    }
  }

  bool covers(const Visit& visit) const {
    const Entry& entry = visit.entry;
    return covered_.back() || visit.checked || entry.is(Entry::has_crc) || entry.is(Entry::has_sum);
  }

  /// Small entries are decoded once for both looking and handing out; damage shows when they are handed out.
  static ContentPtr kept_in_memory(const ContentPtr& content) {
    try {
      if (SourcePtr source = content->source()) return content;
      StreamPtr stream = content->stream();
      return make_content(make_memory_source(read_all(*stream, kDecodeOnce + 1)));
    } catch (const std::exception&) {
      return content;
    }
  }

  /// A container equal to one it lies in would never end.
  void check_not_itself(const SourcePtr& bytes) const {
    if (!bytes) return;
    for (const SourcePtr& ancestor : ancestors_) {
      if (ancestor && ancestor->size() == bytes->size() && sha256_of(*ancestor) == sha256_of(*bytes)) {
        throw LimitExceeded("a container that contains itself: unpacking it with --deep would never end");
      }
    }
  }

  OpenContext& context_;
  const WalkOptions& options_;
  const WalkEvents& events_;
  std::unique_ptr<KindReader> kinds_;
  std::unique_ptr<BrokenStream> broken_;  // when the head read last was
  std::vector<bool> covered_;             // for each container around: a checksum includes its bytes
  std::vector<SourcePtr> ancestors_;      // the bytes of the containers around, where they can be had again
};

}  // namespace

WalkEvents telling(const FindingSink& sink) {
  WalkEvents events;
  events.leave = [&sink](const std::string& path, Container& container) {
    for (const Finding& finding : container.findings()) sink(path, finding);
  };
  events.unreadable = [&sink](const std::string& path, const Error& error) {
    sink(path, {Finding::Level::warning, std::string("cannot be entered: ") + error.what()});
  };
  return events;
}

void walk(const Layer& layer, const SourcePtr& file, OpenContext& context, const WalkOptions& options,
          const WalkEvents& events) {
  Walk(context, options, events).run(*layer.format, layer.container, "", file, options.covered);
}

void walk(const Place& place, OpenContext& context, const WalkOptions& options, const WalkEvents& events) {
  // The file itself is what a nested container must not be equal to, where nothing is wrapped around it.
  walk(place.layers.back(), place.layers.size() == 1 ? place.file_source : nullptr, context, options, events);
}

}  // namespace operculum
