#pragma once

#include "container/sequence.h"

namespace operculum {

/// How many bytes from `at` on, behind the last entry, are to be kept in any case.
std::uint64_t trailer_size(const SequenceEditor& editor, const Source& source, std::uint64_t at);

/// Writes a sequence again: entries in their order on disk, those that nobody changes as they lie with all
/// that is between them.
class SequenceRewrite {
 public:
  /// Where an entry lies: its headers, its data with what fills up behind it.
  struct Span {
    std::size_t index;
    std::uint64_t begin, data_at, end;
  };

  /// All of them must outlive this; `source` has the archive's bytes.
  SequenceRewrite(SourcePtr source, const Changes& changes, const Writing& writing, SequenceEditor& editor)
      : source_(std::move(source)), changes_(changes), writing_(writing), editor_(editor) {}

  /// The next entry, in the order in which they are listed.
  void add(const Span& span, Entry entry);
  Assembly finish();

 private:
  void write(const Span& span);
  void add_new(const NewEntry& entry);
  void add_data(const Content& content);
  void fill_up(std::uint64_t begin);
  void write_tail(std::uint64_t from);
  void keep(std::uint64_t from, std::uint64_t to) { out_.keep(source_, from, to); }

  SourcePtr source_;
  const Changes& changes_;
  const Writing& writing_;
  SequenceEditor& editor_;
  std::vector<Span> spans_;
  std::map<std::size_t, Entry> touched_;
  Assembly out_;
};

}  // namespace operculum
