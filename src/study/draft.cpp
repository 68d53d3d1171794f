#include "study/draft.h"

#include <fmt/ranges.h>

#include <algorithm>

#include "base/path_parts.h"
#include "base/text.h"
#include "study/chunk_draft.h"
#include "study/draft_text.h"
#include "study/entry_names.h"
#include "study/item_draft.h"
#include "study/packing.h"
#include "study/text_test.h"

namespace operculum::study {
namespace {

class Writer {
 public:
  Writer(const Hypothesis& found, const Subject& subject, std::size_t same)
      : found_(found),
        subject_(subject),
        same_(same),
        shape_(found.grid.shape),
        placement_(found.placement),
        names_(found, in_index()) {}

  std::string make() {
    orders();
    text_.title(subject_, big_);
    if (found_.grid.words.empty())
      part_record(Part::head, "Head", subject_.read(0, Frame::kHead));
    else
      head_words();
    if (!found_.grid.space->plain) part_record(Part::index, "Front", found_.grid.space->bytes);
    tail_record();
    draft_item(text_, found_, subject_, big_);
    globals();
    names_.define(text_);
    entry();
    return text_.take();
  }

 private:
  void line(const std::string& text, const std::string& comment = {}) { text_.line(text, comment); }
  std::string unknown() { return text_.unknown(); }
  void gap(std::uint64_t at, std::uint64_t end) { text_.gap(at, end); }

  void orders() {
    int little = 0, big = 0;
    auto count = [&](NumberForm form) {
      if (form.width > 1) (form.big ? big : little) += 1;
    };
    for (const Column& column : found_.columns) {
      if (column.role != Role::name) count(column.form);
    }
    for (const HeadField& field : found_.head) count(field.form);
    if (shape_.text == TextEnd::sized) count(shape_.length);
    big_ = big > little;
  }

  /// Fields of a part up to the last one that means something; what lies between them is not known.
  void part_record(Part part, std::string_view name, ByteView bytes) {
    std::vector<HeadField> fields = fields_of(part);
    std::uint64_t end = fields.empty() ? 0 : fields.back().at + fields.back().form.width;
    std::size_t magic = part == front_part() ? magic_size(bytes, fields) : 0;
    if (fields.empty() && magic == 0) return;
    line(fmt::format("record {} {{", name));
    std::uint64_t at = magic;
    if (magic > 0) text_.magic(bytes.first(magic));
    numbers(fields, at, end);
    line("}");
    has_[static_cast<std::size_t>(part)] = true;
  }

  void tail_record() {
    std::vector<HeadField> fields = fields_of(Part::tail);
    if (fields.empty()) return;
    tail_ = fields.front().at;
    line("record Tail {", fmt::format("the last {} bytes", tail_));
    std::vector<HeadField> forwards = fields;
    for (HeadField& field : forwards) field.at = tail_ - field.at;
    Bytes bytes = subject_.read(subject_.size() - tail_, tail_);
    std::uint64_t end = forwards.back().at + forwards.back().form.width;
    numbers(forwards, 0, end);
    std::uint64_t left = tail_ - end;
    ByteView rest = ByteView(bytes).subspan(static_cast<std::size_t>(end));
    if (left >= 3 && std::all_of(rest.begin(), rest.end(), is_ascii_name_byte))
      line(fmt::format("  magic bytes {}", literal(rest)));
    else if (left > 0)
      line(fmt::format("  {} bytes[{}]", unknown(), left));
    line("}");
    has_[static_cast<std::size_t>(Part::tail)] = true;
  }

  std::vector<HeadField> fields_of(Part part) const {
    std::vector<HeadField> fields;
    for (const HeadField& field : sorted(found_.head)) {
      if (field.part == part) fields.push_back(field);
    }
    return fields;
  }

  std::size_t magic_size(ByteView bytes, const std::vector<HeadField>& fields) const {
    std::uint64_t limit = std::min<std::uint64_t>(
        {kMostMagic, bytes.size(), same_, fields.empty() ? kMostMagic : fields.front().at});
    const Space& space = *found_.grid.space;
    if (space.beside && space.disguised() && subject_.describes_index)
      limit = 0;  // what comes out of the index is not what its file begins with
    else if (!space.beside)
      limit = std::min({limit, placement_.begin, space.plain ? found_.grid.begin : space.stored_at});
    else
      limit = std::min(limit, subject_.describes_index ? found_.grid.begin : placement_.begin);
    return magic_of(bytes.first(static_cast<std::size_t>(limit)));
  }

  void numbers(const std::vector<HeadField>& fields, std::uint64_t at, std::uint64_t end) {
    for (const HeadField& field : fields) {
      gap(at, field.at);
      line(fmt::format("  {} {}", field.name, type_of(field.form, big_)), field.why);
      at = field.at + field.form.width;
    }
    gap(at, end);
  }

  /// A header of words.
  void head_words() {
    const std::vector<WordKind>& words = found_.grid.head_words;
    if (words.empty()) return;
    std::vector<HeadField> fields = fields_of(Part::head);
    line("record Head {");
    for (std::size_t i = 0; i < words.size(); ++i) {
      auto field =
          std::find_if(fields.begin(), fields.end(), [&](const HeadField& one) { return one.at == i; });
      bool known = field != fields.end();
      line(fmt::format("  {} {}", known ? field->name : unknown(), word_type(words[i])),
           known ? field->why : "");
    }
    line("}");
    has_[static_cast<std::size_t>(Part::head)] = true;
  }

  void globals() {
    line("");
    const Space& space = *found_.grid.space;
    if (space.beside && (subject_.describes_index || !space.disguised()))
      line(fmt::format("{} = file({})", subject_.describes_index ? "data " : "index", other_file()));
    std::string_view in_data = subject_.describes_index ? " in data" : "";
    if (has_[0]) line(fmt::format("head  = Head at 0{}", in_data));
    if (has_[1]) line(fmt::format("tail  = Tail at {} - {}{}", data_size(), tail_, in_data));
    std::string_view within = in_index();
    if (space.disguised()) line(fmt::format("index = {} | {}", disguised_index(), space.made));
    if (has_[2]) line(fmt::format("front = Front at 0{}", within));
    std::string count = !found_.goes_on.empty() ? "[] " + found_.goes_on
                        : found_.count.empty()  ? "[] to end"
                                                : fmt::format("[{}]", found_.count);
    line(fmt::format("items = Item{} at {}{}", count, found_.begin, within), found_.unexplained_count);
    bool needs_end = found_.base.find("items_end") != std::string::npos || found_.names_at == "items_end" ||
                     (!placement_.offset && !shape_.data_behind && !space.beside);
    if (needs_end) {
      std::string end = shape_.text == TextEnd::none
                            ? fmt::format("{}{} * {}", found_.begin == "0" ? "" : found_.begin + " + ",
                                          parenthesised(found_.count), shape_.fixed())
                            : fmt::format("end_of(items[{} - 1])", found_.count);
      if (!found_.goes_on.empty())
        end = "end_of(items[length(items) - 1])";
      else if (found_.count.empty())
        end = "end";
      line(fmt::format("items_end = {}", end));
    }
    if (!placement_.offset && !shape_.data_behind) {
      std::string size = found_.column(Role::unpacked) != nullptr ? "x.stored" : "x.size";
      bool aligned = placement_.align > 1;
      std::string from = data_begin();
      if (aligned && !space.beside) from = fmt::format("align({}, {})", from, placement_.align);
      std::string rest =
          subject_.describes_index ? fmt::format("part(data, {})", from) : fmt::format("rest({})", from);
      line(fmt::format(
          "pieces = cut({}, each(x in items: {}))", rest,
          aligned ? fmt::format("min(align({}, {}), {})", size, placement_.align, data_size()) : size));
    }
    if (found_.names && !found_.names->place)
      line(fmt::format("names = text until 0[{}] at {}{}",
                       found_.goes_on.empty() ? found_.count : "length(items)", found_.names_at, within));
    line("");
  }

  /// The bytes that the index is made of.
  std::string disguised_index() const {
    const std::string &at = found_.space_at, &size = found_.packed_size;
    if (found_.grid.space->beside && !subject_.describes_index)
      return fmt::format("part(file({}), {}{}{})", other_file(), at, size.empty() ? "" : ", ", size);
    return size.empty() ? fmt::format("rest({})", at) : fmt::format("bytes({}, {})", at, size);
  }

  /// Where data begins that lies behind the index, as it is in the file.
  std::string data_begin() const {
    const Space& space = *found_.grid.space;
    if (space.beside) return std::to_string(placement_.begin);
    if (space.plain) return "items_end";
    return fmt::format("{} + {}", found_.space_at, space.keyed() ? "items_end" : found_.packed_size);
  }

  static std::string parenthesised(const std::string& expression) {
    return expression.find(' ') == std::string::npos ? expression : "(" + expression + ")";
  }

  std::string data_expression() {
    std::string size = found_.column(Role::unpacked) != nullptr ? "item.stored" : "item.size";
    if (shape_.data_behind) return "item.body";
    if (!placement_.offset)
      return placement_.align > 1 ? fmt::format("part(pieces[n], 0, {})", size) : "pieces[n]";
    std::string base = found_.base.empty() ? "" : found_.base + " + ";
    std::string at = base + "item.at";
    if (placement_.size_is_end) size = "item.end_at - item.at";
    if (!placement_.size) size = fmt::format("next_of(item.at, {}) - item.at", data_end());
    return fmt::format("{}{}, {})", subject_.describes_index ? "part(data, " : "bytes(", at, size);
  }

  /// Where a person's files begin with what tells their kind.
  Part front_part() const { return subject_.describes_index ? Part::index : Part::head; }

  std::string_view data_size() const { return size_of_data(subject_); }

  std::string_view in_index() const {
    const Space& space = *found_.grid.space;
    return space.plain || (subject_.describes_index && !space.disguised()) ? "" : " in index";
  }

  /// The name of the file beside the one that is described, from that one's name where they have it in
  /// common.
  std::string other_file() const {
    std::string name = subject_.other().name, file = subject_.main().name;
    std::string_view stem = file_stem(file);
    if (file_stem(name) != stem) return literal(as_bytes(name));
    std::string ending = literal(as_bytes(name.substr(stem.size())));
    return "\"{file_stem}" + ending.substr(1);
  }

  /// Where the last entry ends, counted as offsets are.
  std::string data_end() const {
    bool in_front = found_.grid.space->plain && placement_.end == found_.grid.begin && found_.grid.begin > 0;
    std::uint64_t behind = subject_.size() - std::min(subject_.size(), placement_.end);
    bool trailer = behind > 0 && behind <= Frame::kTail;
    std::string end = in_front  ? found_.begin
                      : trailer ? fmt::format("{} - {}", data_size(), behind)
                                : std::string(data_size());
    return found_.base.empty() ? end : fmt::format("{} - ({})", end, found_.base);
  }

  void entry() {
    bool by_number = names_.numbered() || (!placement_.offset && !shape_.data_behind) ||
                     (found_.names && !found_.names->place) || found_.nesting;
    const char* item = names_.by_tree() ? "items[n]" : "item";
    std::string some = found_.nameless_end ? fmt::format(" where {}.name != \"\"", item)
                       : found_.sentinel   ? fmt::format(" where {}.at < {}", item, data_end())
                       : found_.nesting && found_.nesting->nameless ? " where n > 0"
                                                                    : "";
    if (names_.by_tree()) {
      line(fmt::format("entry for n in tree(x in roots by inside(x)){} {{", some));
      line("  let item = items[n]");
    } else {
      line(fmt::format("entry for item{} in items{} {{", by_number ? " number n" : "", some));
    }
    std::string data = data_expression();
    if (!found_.packing.transform.empty()) {
      data += found_.packing.condition.empty()
                  ? " | " + found_.packing.transform
                  : fmt::format(" | when {}: {}", found_.packing.condition, found_.packing.transform);
    }
    if (names_.numbered()) {
      line(fmt::format("  let plain = {}", data));
      data = "plain";
    }
    line("  path = " + names_.path());
    line("  data = " + data);
    if (std::string folder = names_.folder(); !folder.empty()) line("  folder = " + folder);
    if (found_.column(Role::unpacked) != nullptr ||
        (placement_.size && !placement_.size_is_end && placement_.bias == 0 && !placement_.counts_rest &&
         found_.packing.transform.empty()))
      line("  size = item.size");
    if (found_.column(Role::time) != nullptr) line("  time = unix(item.written)");
    if (const Column* sum = found_.column(Role::sum)) line(fmt::format("  check {} = item.sum", sum->detail));
    line("}");
  }

  const Hypothesis& found_;
  const Subject& subject_;
  std::size_t same_;
  const Shape& shape_;
  const Placement& placement_;
  DraftText text_;
  EntryNames names_;
  bool big_ = false;
  bool has_[3] = {};
  std::uint64_t tail_ = 0;
};

}  // namespace

std::string draft(const Hypothesis& found, const Subject& subject, std::size_t same) {
  if (found.chunks) return draft_chunks(found, subject, same);
  return Writer(found, subject, same).make();
}

}  // namespace operculum::study
