#include "layout/rewrite/settle.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/error.h"
#include "base/sum_kinds.h"
#include "base/text.h"
#include "io/compare.h"
#include "layout/rewrite/number_writer.h"
#include "layout/run/step_packers.h"

namespace operculum::layout {
namespace {

constexpr std::size_t kRounds = 6;  // of setting checksums, which may lie in what others cover

class Settling {
 public:
  Settling(Survey& survey, const std::map<std::size_t, PackedEntry>& packed, const RowChange* row)
      : survey_(survey), file_(survey.file), packed_(packed), row_(row) {}

  /// Sets checksums until all are right, and looks whether everything is where it should be.
  Made run(Made made) {
    DescribedFile now = file_;
    if (file_.end) now.end = made.size;
    now.parts = made.parts;
    for (std::size_t round = 0;; ++round) {
      Recorder reads;
      SourcePtr source = made.bytes.source();
      OnTrial after = open_on_trial(now, source, &reads);
      std::map<std::uint64_t, Bytes> sums = wrong_sums(*after, reads, *source);
      if (sums.empty()) sums = verify(*after, *source);
      if (sums.empty()) verify_parts(reads);
      if (sums.empty()) return made;
      if (round == kRounds) fail("its checksums do not come to rest");
      made.bytes = with_bytes(source, sums);
    }
  }

  /// Sets the checksums of parts of the file, and looks at nothing else.
  Assembly sums_alone() {
    Assembly made;
    made.add(file_.source);
    for (std::size_t round = 0; round < kRounds; ++round) {
      Recorder reads;
      SourcePtr source = made.source();
      OnTrial after = open_on_trial(file_, source, &reads);
      after->entries();
      std::map<std::uint64_t, Bytes> sums;
      for (const DifferingCheck& check : after->differing_checks())
        put_sum(check.expected.value, check.computed, {}, reads, *source, sums);
      if (sums.empty()) return made;
      made = with_bytes(source, sums);
    }
    fail("its checksums do not come to rest");
  }

 private:
  [[noreturn]] void fail(const std::string& what) const { survey_.fail(what); }

  /// Which entry of the result each one is.
  std::vector<std::size_t> places_in(std::span<const Entry> after) const {
    std::span<const Entry> before = survey_.container->entries();
    std::size_t expected = before.size();
    std::optional<std::size_t> new_one;
    if (row_ != nullptr && row_->kind == RowChange::Kind::removed) expected -= row_->count;
    if (row_ != nullptr && row_->kind == RowChange::Kind::added) {
      ++expected;
      new_one = row_->new_index;
    }
    if (after.size() != expected) fail("other entries are found in the result");
    if (new_one && after[*new_one].path != row_->path) fail("the new entry is not found where it was put");
    std::vector<std::size_t> out(before.size());
    std::size_t next = 0;
    for (std::size_t i = 0; i < before.size(); ++i) {
      if (new_one == next) ++next;
      out[i] = next;
      if (!removes(row_, i)) ++next;
    }
    return out;
  }

  const std::string& path_of(std::size_t index) const {
    bool renamed = row_ != nullptr && row_->kind == RowChange::Kind::renamed && row_->index == index;
    return renamed ? row_->path : survey_.container->entries()[index].path;
  }

  /// Through the steps that are given something else than before, back to the bytes between them and those
  /// behind them, which stay, and through the new ones.
  static Bytes resealed(SourcePtr stored, const std::vector<Step>& before, const std::vector<Step>& after,
                        std::uint64_t most) {
    std::size_t differing = before.size();
    while (differing > 0 && same_step(before[differing - 1], after[differing - 1])) --differing;
    Recipe front;
    front.source = std::move(stored);
    front.steps.assign(before.begin(), before.begin() + static_cast<std::ptrdiff_t>(differing));
    StreamPtr stream = open_recipe(std::make_shared<Recipe>(std::move(front)), std::nullopt);
    for (std::size_t i = differing; i-- > 0;) stream = pack_step(after[i], std::move(stream), {});
    return read_all(*stream, most);
  }

  /// Where a step is given something that follows from where the bytes lie, such as where a key begins, what
  /// moved is packed anew where it lies now; nothing where it would not take the same room.
  std::optional<Bytes> sealed_anew(std::size_t index, const EntryLook& look, const Extent& found) {
    constexpr std::uint64_t kMost = 64 << 20;  // bytes that are packed anew in memory
    const Recipe& before = *survey_.looks[index].recipe;
    bool can = found.there && found.length > 0 && before.steps.size() == look.recipe->steps.size() &&
               (resealed_ += found.length) <= kMost;
    if (!can) return std::nullopt;
    auto packed = packed_.find(index);
    SourcePtr stored = packed == packed_.end() ? stored_bytes(before) : packed->second.stored;
    Bytes bytes = resealed(std::move(stored), before.steps, look.recipe->steps, kMost);
    return bytes.size() == found.length ? std::optional(std::move(bytes)) : std::nullopt;
  }

  Assembly with_bytes(const SourcePtr& source, const std::map<std::uint64_t, Bytes>& places) const {
    Assembly out;
    std::uint64_t at = 0;
    for (const auto& [place, bytes] : places) {
      if (place < at) fail("bytes that have to change lie within others that do");
      out.add(source, at, place - at);
      out.add(bytes);
      at = place + bytes.size();
    }
    out.add(source, at, source->size() - at);
    return out;
  }

  /// What has to stand where, so that checksums are right.
  std::map<std::uint64_t, Bytes> wrong_sums(DescribedContainer& after, const Recorder& head,
                                            const Source& source) {
    std::map<std::uint64_t, Bytes> out;
    std::vector<std::size_t> places = places_in(after.entries());
    for (const auto& [index, packed] : packed_) {
      if (index >= places.size()) continue;  // a part
      EntryLook look = after.look(places[index]);
      if (!look.recipe) fail("the result has no data for an entry that changes");
      if (look.crc32 && *look.crc32 != packed.crc32) {
        Bytes stated(4), right(4);
        for (unsigned i = 0; i < 4; ++i) {
          stated[i] = static_cast<Byte>(*look.crc32 >> (24 - 8 * i));
          right[i] = static_cast<Byte>(packed.crc32 >> (24 - 8 * i));
        }
        put_sum(stated, right, look.reads, head, source, out);
      }
      for (const ExpectedSum& sum : look.of_data)
        compare_sum(sum, packed.plain, look.reads, head, source, out);
      for (const ExpectedSum& sum : look.of_stored)
        compare_sum(sum, make_content(packed.stored), look.reads, head, source, out);
    }
    for (const DifferingCheck& check : after.differing_checks())
      put_sum(check.expected.value, check.computed, {}, head, source, out);
    return out;
  }

  void compare_sum(const ExpectedSum& sum, const ContentPtr& bytes, const Recorder& reads,
                   const Recorder& head, const Source& source, std::map<std::uint64_t, Bytes>& out) const {
    auto made = find_sum(sum.check->algorithm)->make(sum.check->parameters);
    StreamPtr stream = bytes->stream();
    Bytes block(64 * 1024);
    while (std::size_t count = stream->read(block)) made->add(ByteView(block).first(count));
    Bytes computed = made->finish();
    if (computed != sum.value) put_sum(sum.value, computed, reads, head, source, out);
  }

  /// Finds where a checksum stands, as a number or as bytes, in what was read last of it.
  void put_sum(const Bytes& stated, const Bytes& right, const Recorder& reads, const Recorder& head,
               const Source& source, std::map<std::uint64_t, Bytes>& out) const {
    for (const Recorder* recorder : {&reads, &head}) {
      for (auto run = recorder->runs.rbegin(); run != recorder->runs.rend(); ++run) {
        if (run->length != stated.size() || read_up_to(source, run->at, run->length) != stated) continue;
        out[run->at] = right;
        return;
      }
      if (stated.size() > 8) continue;
      std::uint64_t number = 0, wanted = 0;
      for (Byte b : stated) number = number << 8 | b;
      for (Byte b : right) wanted = wanted << 8 | b;
      for (auto read = recorder->numbers.rbegin(); read != recorder->numbers.rend(); ++read) {
        std::uint64_t mask = stated.size() == 8 ? UINT64_MAX : (std::uint64_t{1} << (8 * stated.size())) - 1;
        if ((static_cast<std::uint64_t>(read->value) & mask) != number || out.contains(read->at)) continue;
        auto bytes = bytes_for(*read, signed_like(*read, wanted), source);
        if (!bytes) continue;
        out[read->at] = *bytes;
        return;
      }
    }
    fail(fmt::format("the place of the checksum {} was not found", to_hex(stated)));
  }

  /// A number of few bytes that is read as a signed one.
  static std::int64_t signed_like(const NumberRead& read, std::uint64_t value) {
    unsigned unused = read.width < 8 ? 64 - 8 * read.width : 0;
    bool is_signed = read.value < 0 && unused > 0;
    return is_signed ? static_cast<std::int64_t>(value << unused) >> unused
                     : static_cast<std::int64_t>(value);
  }

  /// Every entry is there, where it should be, as long as it should be. Returns, by place, the bytes of those
  /// that have to be packed anew first.
  std::map<std::uint64_t, Bytes> verify(DescribedContainer& after, const Source& source) {
    std::map<std::uint64_t, Bytes> out;
    compared_ = resealed_ = 0;
    std::span<const Entry> old_entries = survey_.container->entries(), new_entries = after.entries();
    std::vector<std::size_t> places = places_in(new_entries);
    for (std::size_t i = 0; i < old_entries.size(); ++i) {
      if (removes(row_, i)) continue;
      const std::string& path = path_of(i);
      if (new_entries[places[i]].path != path)
        fail(fmt::format("\"{}\" would have another path", escape(path)));
      const Entry &before = old_entries[i], &now = new_entries[places[i]];
      if (now.kind != before.kind || now.mode != before.mode || now.modified != before.modified)
        fail(fmt::format("\"{}\" would be of another kind, mode or time", escape(path)));
      if (!survey_.extents[i].there) {
        compare_whole(after, i, places[i]);
        continue;
      }
      EntryLook look = after.look(places[i]);
      Extent found = extent_of(look, source);
      auto packed = packed_.find(i);
      bool anew = sealed_.contains(i);  // its bytes are others for the same content
      bool as_before = packed == packed_.end() && !anew && look.recipe &&
                       same_steps(*survey_.looks[i].recipe, *look.recipe);
      auto plain = [&] {
        return packed == packed_.end() ? survey_.container->content(i) : packed->second.plain;
      };
      if (look.recipe && !as_before && !gives(look, *plain())) {
        auto anew_bytes = sealed_anew(i, look, found);
        if (!anew_bytes)
          fail(fmt::format("\"{}\" would be decoded in another way where it lies then", escape(path)));
        out.emplace(found.at, *std::move(anew_bytes));
        sealed_.insert(i);
        continue;
      }
      std::uint64_t length =
          packed == packed_.end() ? survey_.extents[i].length : packed->second.stored->size();
      if (found.length != length || (length > 0 && !found.there)) {
        fail(fmt::format("no number was found that tells how long \"{}\" is: it would have {} bytes, not {}",
                         escape(path), found.length, length));
      }
      if (packed != packed_.end()) {
        bool right = anew || length == 0 || same_range(source, found.at, *packed->second.stored, 0, length);
        if (!right) fail(fmt::format("no number was found that tells where \"{}\" lies", escape(path)));
      } else if (length > 0 && !anew && !kept(source, found.at, survey_.extents[i])) {
        fail(
            fmt::format("no number was found that tells where \"{}\" lies: it would be read at offset {}, "
                        "where other bytes are",
                        escape(path), found.at));
      }
      std::optional<std::uint64_t> size =
          packed == packed_.end() ? survey_.looks[i].size : packed->second.plain_size;
      if (look.size && look.size != size) {
        fail(fmt::format("no number was found that tells the size of \"{}\": it would be {}, not {}",
                         escape(path), *look.size, size.value_or(0)));
      }
    }
    if (row_ != nullptr && row_->kind == RowChange::Kind::added) {
      EntryLook look = after.look(row_->new_index);
      Extent found = extent_of(look, source);
      const Extent& wanted = survey_.extents[row_->index];
      if (found.there != wanted.there || found.length != wanted.length)
        fail("the new entry would not have the bytes of the one that it is made of");
    }
    for (const Finding& finding : after.findings()) {
      if (finding.level == Finding::Level::fault && survey_.container->findings().empty()) fail(finding.text);
    }
    return out;
  }

  /// What stands in for parts hides where their packed bytes are read: that must be where they lie.
  void verify_parts(const Recorder& reads) const {
    for (std::size_t i = 0; i < file_.parts.size(); ++i) {
      std::size_t index = survey_.index_of_part(i);
      const PartMade* made = reads.part(file_.parts[i].ordinal);
      SourcePtr found = made == nullptr ? nullptr : stored_bytes(made->recipe);
      if (!survey_.extents[index].there || !found) continue;
      const Source& bytes = *found;
      auto packed = packed_.find(index);
      bool right =
          packed == packed_.end()
              ? bytes.size() == survey_.extents[index].length && kept(bytes, 0, survey_.extents[index])
              : bytes.size() == packed->second.stored->size() &&
                    same_range(bytes, 0, *packed->second.stored, 0, bytes.size());
      if (!right) fail("no number was found that tells where a packed table lies, or how long it is");
    }
  }

  /// An entry whose bytes are no single run, such as one in blocks; beyond a size whoever wants the result
  /// compares it.
  void compare_whole(DescribedContainer& after, std::size_t index, std::size_t place) {
    constexpr std::uint64_t kMost = 64 << 20;  // bytes of all of them
    const std::optional<std::uint64_t>& size = survey_.looks[index].size;
    if (!survey_.looks[index].recipe || packed_.contains(index) ||
        (compared_ += size.value_or(kMost)) > kMost)
      return;
    bool same = false;
    try {
      same = same_bytes(*after.content(place)->stream(), *survey_.container->content(index)->stream());
    } catch (const Malformed&) {  // it is read no more
    }
    if (!same) fail(fmt::format("\"{}\" would be another one", escape(path_of(index))));
  }

  /// Whether an entry's new bytes give its new content.
  static bool gives(const EntryLook& look, const Content& plain) {
    try {
      return same_bytes(*open_recipe(look.recipe, look.size), *plain.stream());
    } catch (const Malformed&) {
      return false;
    }
  }

  /// Whether these bytes are those that lay in the old file there.
  bool kept(const Source& bytes, std::uint64_t from, const Extent& extent) const {
    for (std::uint64_t done = 0; done < extent.length;) {
      auto run = trace(bytes, from + done, *file_.source);
      if (!run || run->at != extent.at + done) return false;
      done += run->length;
    }
    return true;
  }

  /// What a step is given may follow from where the data lies.
  static bool same_steps(const Recipe& before, const Recipe& after) {
    return before.steps.size() == after.steps.size() &&
           std::equal(before.steps.begin(), before.steps.end(), after.steps.begin(), same_step);
  }

  static bool same_step(const Step& a, const Step& b) {
    if (a.kind != b.kind || a.arguments.size() != b.arguments.size()) return false;
    bool sizes = a.kind->name == "take";  // which a new content changes, and which the steps themselves tell
    for (std::size_t k = 0; k < a.arguments.size(); ++k) {
      bool size = sizes || a.kind->parameters[k].name == "size";
      const StepArgument &one = a.arguments[k], &other = b.arguments[k];
      if (!size && (one.number != other.number || one.bytes != other.bytes || one.text != other.text))
        return false;
    }
    return true;
  }

  Survey& survey_;
  const DescribedFile& file_;
  const std::map<std::size_t, PackedEntry>& packed_;
  const RowChange* row_;
  std::uint64_t compared_ = 0, resealed_ = 0;  // bytes, by verify()
  std::set<std::size_t> sealed_;               // entries whose bytes were packed anew where they lie now
};

}  // namespace

Made settle(Survey& survey, const std::map<std::size_t, PackedEntry>& packed, const RowChange* row,
            Made made) {
  return Settling(survey, packed, row).run(std::move(made));
}

Assembly settle_sums(const DescribedFile& file) {
  Survey survey(file);
  return Settling(survey, {}, nullptr).sums_alone();
}

}  // namespace operculum::layout
