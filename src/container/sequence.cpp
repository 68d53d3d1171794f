#include "container/sequence.h"

#include <fmt/format.h>

#include <algorithm>
#include <atomic>
#include <map>

#include "base/error.h"
#include "base/text.h"
#include "base/units.h"
#include "codec/codec.h"
#include "container/numbered_path.h"
#include "container/sequence_rewrite.h"
#include "container/trim.h"
#include "io/read_ahead.h"

namespace operculum {
namespace {

/// The data of the current entry, read through the pass's own buffer.
class PackedStream final : public Stream {
 public:
  PackedStream(InputBuffer& input, std::uint64_t length) : input_(input), left_(length) {}
  std::size_t read(ByteSpan out) override {
    auto wanted = static_cast<std::size_t>(std::min<std::uint64_t>(out.size(), left_));
    std::size_t count = wanted == 0 ? 0 : input_.read(out.first(wanted));
    left_ -= count;
    return count;
  }
  std::uint64_t skip(std::uint64_t count) override {
    std::uint64_t done = input_.skip(std::min(count, left_));
    left_ -= done;
    return done;
  }
  std::uint64_t left() const { return left_; }

 private:
  InputBuffer& input_;
  std::uint64_t left_;
};

/// Compares the sum of all bytes, modulo 2^32, with the stored one.
class ByteSumStream final : public Stream {
 public:
  ByteSumStream(StreamPtr inner, std::uint32_t expected) : inner_(std::move(inner)), expected_(expected) {}
  std::size_t read(ByteSpan out) override {
    std::size_t count = inner_->read(out);
    for (Byte b : out.first(count)) sum_ += b;
    if (count == 0 && sum_ != expected_) {
      throw Malformed(fmt::format("checksum differs (stored {:08x}, computed {:08x}); the data is damaged",
                                  expected_, sum_));
    }
    return count;
  }

 private:
  StreamPtr inner_;
  std::uint32_t expected_;
  std::uint32_t sum_ = 0;
};

/// What is needed to reach the data again, beside the entry itself; only few entries have it.
struct Special {
  std::vector<Extent> extents;
  std::optional<std::uint32_t> byte_sum;
  std::string_view sum;
  Bytes digest;

  bool only_holes() const { return !byte_sum && sum.empty(); }
};

Special special_of(const SequenceItem& item) {
  return {item.extents, item.byte_sum, item.sum, item.digest};
}

bool is_special(const SequenceItem& item) {
  return item.entry.is(Entry::sparse) || item.byte_sum || !item.sum.empty();
}

StreamPtr finish_stream(StreamPtr packed, const Special* special, const Entry& entry) {
  if (special != nullptr && entry.is(Entry::sparse)) {
    packed = make_extent_stream(std::move(packed), special->extents, entry.size);
  }
  if (special != nullptr && special->byte_sum)
    packed = std::make_unique<ByteSumStream>(std::move(packed), *special->byte_sum);
  Expected expected{entry.size, std::nullopt, {}, {}};
  if (special != nullptr) {
    expected.sum = special->sum;
    expected.digest = special->digest;
  }
  return make_checked(std::move(packed), expected);
}

class SequenceContainer final : public Container {
 public:
  SequenceContainer(const Input& input, OpenContext& context, MakeParser make_parser, MakeEditor make_editor)
      : content_(input.content),
        source_(input.content->source()),
        forward_(!source_ || source_->costly()),
        limits_(context.limits),
        spool_(context.spool),
        make_parser_(std::move(make_parser)),
        make_editor_(std::move(make_editor)) {}

  Access access() const override { return forward_ ? Access::forward : Access::random; }

  std::span<const Entry> entries() override {
    std::call_once(listed_, [this] {
      InputBuffer input(headers());
      pass(input, Data::passed_over, [&](SequenceItem& item, std::size_t index, Stream*) {
        if (is_special(item)) special_[index] = special_of(item);
        note_end(item, input);
        limits_.count_retained(memory_of(item.entry));
        entries_.push_back(std::move(item.entry));
        return true;
      });
      listed_already_ = walked_ = true;
    });
    return entries_;
  }

  ContentPtr content(std::size_t index) override {
    const Entry& entry = entries()[index];
    auto special = special_.find(index);
    return content_of(std::shared_ptr<const Entry>(shared_from_this(), &entry),
                      special == special_.end() ? nullptr : &special->second);
  }

  /// Keeps none, as long as nobody has asked for all.
  void each(Detail detail, const std::function<void(const Entry&)>& visitor) override {
    if (listed_already_) return Container::each(detail, visitor);
    InputBuffer input(headers());
    pass(input, Data::passed_over, [&](SequenceItem& item, std::size_t, Stream*) {
      note_end(item, input);
      visitor(item.entry);
      return true;
    });
    walked_ = true;
  }

  /// One pass finds an entry, in forward access keeps its data, or notes that the path is a folder's or one
  /// that is like it. Whoever asks again, or after what is not there, has all listed.
  Lookup find(std::string_view path) override {
    bool again = asked_before_.exchange(true);
    if (listed_already_ || missed_ || (again && !forward_)) return Container::find(path);
    Lookup result, numbered;
    auto wanted = NumberedPath::parse(path);
    const std::string name = to_lower(base_name(path));
    InputBuffer input(headers());
    const bool keeps = decodes_all();
    pass(input, keeps ? Data::handed_out : Data::passed_over,
         [&](SequenceItem& item, std::size_t, Stream* data) {
           std::string_view own = item.entry.path;
           bool is_folder = item.entry.kind == EntryKind::folder;
           bool beneath = own.size() > path.size() && own.starts_with(path) && own[path.size()] == '/';
           if (beneath || (own == path && is_folder)) {
             result = {};
             result.kind = Lookup::Kind::folder;
             result.path = path;
             return false;
           }
           bool leads = !is_folder && own.size() >= result.consumed && path.starts_with(own) &&
                        (own.size() == path.size() || path[own.size()] == '/');
           bool by_number = wanted && !is_folder && own == wanted->plain && wanted->number-- == 1;
           if (result.similar.empty() && to_lower(base_name(own)) == name) result.similar = own;
           if (!leads && !by_number) return true;
           SourcePtr kept = keeps && item.entry.has_data() ? spool(*data, spool_) : nullptr;
           if (leads)
             result = found(item, own.size(), std::move(kept));
           else
             numbered = found(item, path.size(), std::move(kept));
           return true;
         });
    if (result.kind != Lookup::Kind::nothing) return result;
    missed_ = numbered.kind == Lookup::Kind::nothing;
    return missed_ ? result : numbered;
  }

  void walk(const Visitor& visitor) override {
    if (!forward_) return Container::walk(visitor);
    InputBuffer input(make_read_ahead(content_->stream()));
    pass(input, Data::handed_out, [&](SequenceItem& item, std::size_t index, Stream* data) {
      return visitor({item.entry, index, nullptr, data});
    });
  }

  SourcePtr stored(std::size_t index) override {
    if (!source_ || forward_ || !plain(index)) return nullptr;
    const Entry& entry = entries()[index];
    return make_slice(source_, entry.stored_at, entry.stored_size);
  }

  Assembly rewrite(const Changes& changes, const Writing& writing) override {
    if (!make_editor_) return Container::rewrite(changes, writing);
    SourcePtr source = source_ && !forward_ ? source_ : spool(*content_->stream(), writing.spool);
    std::unique_ptr<SequenceEditor> editor = make_editor_();
    SequenceRewrite plan(source, changes, writing, *editor);
    InputBuffer input(make_source_stream(source));
    pass(input, Data::passed_over, [&](SequenceItem& item, std::size_t index, Stream*) {
      std::uint64_t data_at = input.consumed();
      std::uint64_t end = end_of(item, data_at);
      plan.add({index, item.begin, std::min(data_at, end), end}, std::move(item.entry));
      return true;
    });
    return plan.finish();
  }

  std::optional<Trimmed> trimmed(Look look) override {
    if (!make_editor_ || !source_ || forward_) return std::nullopt;
    if (!walked_) each(Detail::paths, [](const Entry&) {});
    if (entries_end_ == 0) return std::nullopt;
    std::unique_ptr<SequenceEditor> editor = make_editor_();
    std::uint64_t end = entries_end_ + trailer_size(*editor, *source_, entries_end_);
    end += editor->filling(end, source_->size()).value_or(0);
    if (end >= source_->size() || !is_filling(*source_, end, source_->size(), look)) return std::nullopt;
    Trimmed out;
    out.result.add(source_, 0, end);
    return out;
  }

 private:
  enum class Data { handed_out, passed_over };

  void note_end(const SequenceItem& item, const InputBuffer& input) {
    if (!forward_) entries_end_ = std::max<std::uint64_t>(entries_end_, end_of(item, input.consumed()));
  }
  static std::uint64_t end_of(const SequenceItem& item, std::uint64_t data_at) {
    return item.end > 0 ? item.end : data_at + item.packed + item.padding;
  }

  bool plain(std::size_t index) const { return !special_.contains(index); }

  /// For whoever wants nothing but headers: what lies between them is passed over, or has to be decoded.
  StreamPtr headers() {
    return decodes_all() ? make_read_ahead(content_->stream()) : make_source_stream(source_);
  }

  bool decodes_all() { return forward_ && !far_apart(); }

  /// Whether bytes that are decoded block by block are worth being jumped about in: there are many blocks,
  /// and the first headers lie further apart than a block reaches.
  bool far_apart() {
    constexpr std::uint64_t kManyBlocks = 16;  // then one that is decoded for nothing is little
    std::call_once(looked_, [this] {
      if (source_ && source_->size() / kManyBlocks >= source_->grain()) far_apart_ = headers_skip_blocks();
    });
    return far_apart_;
  }

  bool headers_skip_blocks() {
    constexpr std::size_t kLooked = 8;
    try {
      auto parser = make_parser_();
      InputBuffer input(make_source_stream(source_));
      std::size_t count = 0;
      for (SequenceItem item; count < kLooked && parser->next(input, item); item = {}) {
        input.skip(item.packed + item.padding);
        if (input.consumed() < source_->grain() * ++count) return false;
      }
      return count > 0;
    } catch (const std::exception&) {
      return false;  // told when the headers are read
    }
  }

  /// What a path led to, of which `consumed` characters name the item; `kept` is its data, if there is no way
  /// back to it.
  Lookup found(SequenceItem& item, std::size_t consumed, SourcePtr kept) {
    Lookup out;
    out.kind = Lookup::Kind::entry;
    out.consumed = consumed;
    auto special = std::make_shared<const Special>(special_of(item));
    bool is_plain = !is_special(item);
    auto entry = std::make_shared<const Entry>(std::move(item.entry));
    out.entry = entry;
    out.open = [this, self = shared_from_this(), kept = std::move(kept), entry, special, is_plain] {
      return kept ? make_content(kept) : content_of(entry, is_plain ? nullptr : special.get());
    };
    return out;
  }

  /// The data of an entry; `special` is null for those that have nothing of it.
  ContentPtr content_of(std::shared_ptr<const Entry> entry, const Special* special) {
    if (source_ && special == nullptr && entry->stored_at + entry->stored_size <= source_->size())
      return make_content(make_slice(source_, entry->stored_at, entry->stored_size));
    if (source_ && special != nullptr && special->only_holes()) {
      SourcePtr packed = make_slice(source_, entry->stored_at, entry->stored_size);
      if (packed->size() == entry->stored_size)
        return make_content(make_extent_source(packed, special->extents, entry->size));
    }
    auto own = special != nullptr ? std::make_shared<const Special>(*special) : nullptr;
    return make_content([this, self = shared_from_this(), entry = std::move(entry), own] {
      return finish_stream(open_packed(*entry), own.get(), *entry);
    });
  }

  StreamPtr open_packed(const Entry& entry) const {
    if (source_) return make_source_stream(source_, entry.stored_at, entry.stored_size);
    struct Owned final : Stream {
      Owned(StreamPtr all, std::uint64_t begin, std::uint64_t length)
          : input(std::move(all)), packed(input, length) {
        input.skip(begin);
      }
      std::size_t read(ByteSpan out) override { return packed.read(out); }
      InputBuffer input;
      PackedStream packed;
    };
    return std::make_unique<Owned>(content_->stream(), entry.stored_at, entry.stored_size);
  }

  /// Each entry once, however many passes there are.
  void count(std::size_t index) {
    if (index < counted_) return;
    counted_ = index + 1;
    limits_.count_entry();
  }

  /// One pass over all headers. Damage ends it with a finding: what was listed before stays good.
  template <typename OnItem>
  void pass(InputBuffer& input, Data wanted, OnItem on_item) {
    auto parser = make_parser_();
    parser->report = [this](Finding::Level level, const std::string& text) { add_finding(level, text); };
    for (std::size_t index = 0;; ++index) {
      SequenceItem item;
      try {
        if (!parser->next(input, item)) return;
        count(index);
        if (item.entry.is(Entry::sparse)) check_extents(item.extents, item.entry.size);
      } catch (const LimitExceeded&) {
        throw;
      } catch (const std::exception& thrown) {
        Error error = as_error(thrown);
        if (index == 0) throw;
        add_finding(Finding::Level::fault, fmt::format("the listing ends after {}: {}",
                                                       counted(index, "entry", "entries"), error.what()));
        return;
      }
      PackedStream packed(input, item.packed);
      StreamPtr data;
      if (wanted == Data::handed_out) {
        Special special = special_of(item);
        data = finish_stream(make_borrowed(packed), &special, item.entry);
      }
      std::uint64_t padding = item.padding;
      std::uint64_t length = item.packed;
      std::string path = item.entry.path;
      if (!on_item(item, index, data.get())) return;
      try {
        packed.skip(packed.left());
        std::uint64_t missing = packed.left();
        if (missing > 0) {
          throw Malformed(fmt::format("\"{}\" has {} of its {} bytes; the file is cut short", escape(path),
                                      length - missing, length));
        }
        input.skip(padding);
      } catch (const std::exception& thrown) {
        Error error = as_error(thrown);
        add_finding(Finding::Level::fault, fmt::format("the listing ends after {}: {}",
                                                       counted(index + 1, "entry", "entries"), error.what()));
        return;
      }
    }
  }

  ContentPtr content_;
  SourcePtr source_;  // null: forward only
  bool forward_;
  const Limits& limits_;
  SpoolBudget& spool_;
  MakeParser make_parser_;
  MakeEditor make_editor_;
  std::once_flag listed_;
  std::atomic<bool> listed_already_{false}, asked_before_{false}, missed_{false}, walked_{false};
  std::once_flag looked_;
  bool far_apart_ = false;
  std::atomic<std::size_t> counted_{0};  // entries
  std::vector<Entry> entries_;
  std::map<std::size_t, Special> special_;
  std::atomic<std::uint64_t> entries_end_{0};  // of the last one, with what fills up behind it
};

}  // namespace

ContainerPtr make_sequence(const Input& input, OpenContext& context, MakeParser make_parser,
                           MakeEditor make_editor) {
  return std::make_shared<SequenceContainer>(input, context, std::move(make_parser), std::move(make_editor));
}

}  // namespace operculum
