#include "study/item_draft.h"

#include <fmt/format.h>

#include <algorithm>

namespace operculum::study {
namespace {

constexpr const char* kOther = "a second text; it may be empty";

class ItemWriter {
 public:
  ItemWriter(DraftText& text, const Hypothesis& found, const Subject& subject, bool big)
      : text_(text),
        found_(found),
        subject_(subject),
        shape_(found.grid.shape),
        placement_(found.placement),
        big_(big) {}

  void write() {
    if (!found_.grid.words.empty()) return item_words();
    line("record Item {");
    if (!found_.grid.varints.empty()) return item_varints();
    std::size_t at = 0;
    bool text_done = shape_.text == TextEnd::none;
    for (const Column& column : found_.columns) {
      if (!text_done && column.at >= shape_.before) {
        gap(at, shape_.before);
        at = shape_.before;
        text_field();
        text_done = true;
      }
      gap(at, column.at);
      at = column.at + column.width;
      std::string name = field_name(column);
      if (column.role == Role::name || column.role == Role::other) {
        std::size_t width = column.width + padding_behind(column);
        at = column.at + width;
        std::string ending = column.detail == "wide"    ? " padded 0 encoded \"UTF-16LE\""
                             : column.detail == "blank" ? " padded \" \""
                                                        : " padded 0";
        line(fmt::format("  {} text[{}]{}", name, width, ending), column.why);
        continue;
      }
      std::string type = column_type(column);
      if (column.bits != 0) {
        line(fmt::format("  {0}_word bits {1} {{ {0}: {2}, {0}_flags: {3} }}", name, type, column.bits,
                         8 * column.width - column.bits),
             column.why);
        continue;
      }
      if (column.counted != PlaceCount::up) {
        counted_field(column);
        continue;
      }
      if (column.mask != 0) type += fmt::format(" xor {:#x}", column.mask);
      if (column.factor != 1) type += fmt::format(" * {}", column.factor);
      line(fmt::format("  {} {}", name, type), column.why);
      if (placement_.counts_rest && column.at == placement_.size->at) {
        line(fmt::format("  within {} {{", name));
        text_.within(true);
      }
    }
    if (!text_done) {
      gap(at, shape_.before);
      text_field();
      at = shape_.before;
    }
    gap(at, shape_.fixed());
    if (shape_.other == OtherText::at_end) line("  other text until 0", kOther);
    if (shape_.data_behind && placement_.counts_rest) {
      line("  body bytes to end");
      text_.within(false);
      line("  }");
    } else if (shape_.data_behind) {
      std::string size = placement_.bias == 0 ? "size" : fmt::format("size - {}", placement_.bias);
      if (found_.column(Role::unpacked) != nullptr) size = "stored" + size.substr(4);
      line(fmt::format("  body bytes[{}]", size));
    }
    if (shape_.align > 1)
      line(shape_.data_behind || found_.grid.begin % shape_.align == 0
               ? fmt::format("  align {}", shape_.align)
               : fmt::format("  skip align(here - start, {}) - (here - start)", shape_.align));
    line("}");
  }

 private:
  void line(const std::string& text, const std::string& comment = {}) { text_.line(text, comment); }
  std::string unknown() { return text_.unknown(); }
  void gap(std::uint64_t at, std::uint64_t end) { text_.gap(at, end); }

  std::string field_name(const Column& column) {
    switch (column.role) {
      case Role::offset:
        return "at";
      case Role::end_at:
        return "end_at";
      case Role::size:
        return found_.column(Role::unpacked) != nullptr ? "stored" : "size";
      case Role::unpacked:
        return "size";
      case Role::name:
        return named_++ == 0 ? "name" : fmt::format("name_{}", named_);
      case Role::name_at:
        return "name_at";
      case Role::packing:
        return "packing";
      case Role::sum:
        return "sum";
      case Role::time:
        return "written";
      case Role::part:
        return "part_size";
      case Role::parent:
        return "parent";
      case Role::depth:
        return "depth";
      case Role::behind:
        return found_.nesting->kind == Nesting::Kind::inside ? "inside" : "behind";
      case Role::first_in:
        return "first";
      case Role::children:
        return "children";
      case Role::next_in:
        return "next";
      case Role::hash:
        return "hash";
      case Role::other:
        break;
    }
    return fmt::format("tag_{}", ++tags_);
  }

  /// A line of words.
  void item_words() {
    line("record Item {");
    bool named = false;
    std::size_t at = 0;  // of the number's cell
    for (WordKind kind : found_.grid.words) {
      std::string name, why, factor;
      if (kind == WordKind::text) {
        name = named ? unknown() : "name";
        named = true;
      } else {
        if (const Column* column = column_at(at)) {
          name = field_name(*column);
          why = column->why;
          if (column->factor != 1) factor = fmt::format(" * {}", column->factor);
        } else {
          name = unknown();
        }
        at += kDecodedCell;
      }
      line(fmt::format("  {} {}{}", name, word_type(kind), factor), why);
    }
    line("}");
  }

  /// Numbers that take as many bytes as they need, a name among them, then fixed bytes.
  void item_varints() {
    const std::string_view type = found_.grid.varints;
    const std::size_t numbers_end = found_.grid.varints_end;
    std::size_t at = 0;
    for (; at <= numbers_end; at += kDecodedCell) {
      if (at == shape_.before) line(fmt::format("  name text sized {}", type));
      if (at == numbers_end) break;
      const Column* column = column_at(at);
      line(fmt::format("  {} {}", column != nullptr ? field_name(*column) : unknown(), type),
           column != nullptr ? column->why : "");
    }
    if (const Column* column = column_at(at)) {
      line(fmt::format("  {} {}", field_name(*column), column_type(*column)), column->why);
      at += column->width;
    }
    gap(at, shape_.fixed());
    if (shape_.data_behind)
      line(fmt::format("  body bytes[{}]", found_.column(Role::unpacked) != nullptr ? "stored" : "size"));
    line("}");
  }

  const Column* column_at(std::size_t at) const {
    auto found = std::find_if(found_.columns.begin(), found_.columns.end(),
                              [&](const Column& one) { return one.at == at; });
    return found == found_.columns.end() ? nullptr : &*found;
  }

  std::string column_type(const Column& column) const {
    return column.form.width == 0 ? fmt::format("bytes[{}]", column.width) : type_of(column.form, big_);
  }

  /// A place that is not counted up, and what it comes to.
  void counted_field(const Column& column) {
    bool negative = column.counted != PlaceCount::back &&
                    is_negative(found_.grid.value(0, column.at, column.form), column.form);
    const char* name = column.counted == PlaceCount::own ? "away" : "back";
    line(fmt::format("  {} {}", name, type_of(column.form, big_, negative ? 'i' : 'u')), column.why);
    std::string from =
        found_.counted_from == "end" ? std::string(size_of_data(subject_)) : found_.counted_from;
    line(fmt::format("  let at = {} {} {}", from, column.counted == PlaceCount::back ? "-" : "+", name));
  }

  /// Zero bytes behind a text that belong to no other column.
  std::size_t padding_behind(const Column& text) const {
    const Grid& grid = found_.grid;
    std::size_t limit = grid.shape.fixed();
    for (const Column& other : found_.columns) {
      if (other.at > text.at) limit = std::min(limit, other.at);
    }
    std::size_t end = text.at + text.width;
    for (; end < limit; ++end) {
      for (std::size_t row = 0; row < grid.rows(); ++row) {
        bool ended = text_of(grid, text, row).size() < text.width;
        if (grid.row(row)[end] != 0 && !(ended && text.detail.empty() && end % 4 != 0))
          return end - text.at - text.width;
      }
    }
    return end - text.at - text.width;
  }

  void text_field() {
    if (shape_.text == TextEnd::zero) {
      if (shape_.other == OtherText::in_front) line("  other text until 0", kOther);
      line("  name text until 0");
      return;
    }
    std::string type = type_of(shape_.length, big_);
    if (shape_.unit == 2) {
      line(fmt::format("  length {}", type), "of the name, in characters");
      line("  name text[length * 2] encoded \"UTF-16LE\"");
      return;
    }
    line(fmt::format("  name text sized {} padded 0", type));
  }

  DraftText& text_;
  const Hypothesis& found_;
  const Subject& subject_;
  const Shape& shape_;
  const Placement& placement_;
  bool big_;
  int tags_ = 0, named_ = 0;
};

}  // namespace

void draft_item(DraftText& text, const Hypothesis& found, const Subject& subject, bool big) {
  ItemWriter(text, found, subject, big).write();
}

}  // namespace operculum::study
