#include "study/draft.h"

#include <fmt/ranges.h>

#include <algorithm>
#include <cctype>
#include <set>

#include "base/path_parts.h"
#include "base/text.h"
#include "study/chunk_draft.h"
#include "study/draft_text.h"
#include "study/packing.h"
#include "study/text_test.h"

namespace operculum::study {
namespace {

constexpr const char* kOther = "a second text; it may be empty";

class Writer {
 public:
  Writer(const Hypothesis& found, const Subject& subject, std::size_t same)
      : found_(found),
        subject_(subject),
        same_(same),
        shape_(found.grid.shape),
        placement_(found.placement) {}

  std::string make() {
    orders();
    text_.title(subject_, big_);
    if (found_.grid.words.empty())
      part_record(Part::head, "Head", subject_.read(0, Frame::kHead));
    else
      head_words();
    if (!found_.grid.space->plain) part_record(Part::index, "Front", found_.grid.space->bytes);
    tail_record();
    item_record();
    globals();
    path_of_folders();
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

  static std::string_view type_of_word(WordKind kind) {
    constexpr std::string_view kTypes[] = {"text word", "decimal word", "hexadecimal word"};
    return kTypes[static_cast<std::size_t>(kind)];
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
      line(fmt::format("  {} {}", known ? field->name : unknown(), type_of_word(words[i])),
           known ? field->why : "");
    }
    line("}");
    has_[static_cast<std::size_t>(Part::head)] = true;
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
        auto column = std::find_if(found_.columns.begin(), found_.columns.end(),
                                   [&](const Column& one) { return one.at == at; });
        if (column != found_.columns.end()) {
          name = field_name(*column);
          why = column->why;
          if (column->factor != 1) factor = fmt::format(" * {}", column->factor);
        } else {
          name = unknown();
        }
        at += kDecodedCell;
      }
      line(fmt::format("  {} {}{}", name, type_of_word(kind), factor), why);
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
      line(fmt::format("  {} {}", field_name(*column),
                       column->form.width == 0 ? fmt::format("bytes[{}]", column->width)
                                               : type_of(column->form, big_)),
           column->why);
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

  void item_record() {
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
      std::string type =
          column.form.width == 0 ? fmt::format("bytes[{}]", column.width) : type_of(column.form, big_);
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

  /// A place that is not counted up, and what it comes to.
  void counted_field(const Column& column) {
    bool negative = column.counted != PlaceCount::back &&
                    is_negative(found_.grid.value(0, column.at, column.form), column.form);
    const char* name = column.counted == PlaceCount::own ? "away" : "back";
    line(fmt::format("  {} {}", name, type_of(column.form, big_, negative ? 'i' : 'u')), column.why);
    std::string from = found_.counted_from == "end" ? std::string(data_size()) : found_.counted_from;
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

  std::string_view data_size() const { return subject_.describes_index ? "length(data)" : "end"; }

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

  /// Where records lie in each other: what is in one, and its path.
  void path_of_folders() {
    if (!found_.nesting) return;
    const Nesting& nesting = *found_.nesting;
    const char* from = nesting.first == 0 ? "" : " - 1";
    std::string exists = nesting.first == 1 ? "x >= 0" : nesting.none == 0 ? "x > 0" : "x < length(items)";
    const std::string name = own_name("item");
    if (nesting.kind != Nesting::Kind::parent)
      line(fmt::format("define name_of(n) = {}", own_name("items[n]")));
    switch (nesting.kind) {
      case Nesting::Kind::parent:
        line("define path_of(item: Item): text =");
        line(fmt::format("  if item.parent == {0} then {1} else path_in(path_of(items[item.parent{2}]), {1})",
                         nesting.none, name, from));
        line("define path_in(folder: text, name: text): text = \"{folder}/{name}\"");
        break;
      case Nesting::Kind::depth:
        line("define folder_of(n) =");
        line("  n - 1 - length(chain(x from n - 1 while items[x].depth >= items[n].depth then x - 1))");
        line("define path_of(n): text =");
        line(
            fmt::format("  if items[n].depth == {} then name_of(n) else path_in(path_of(folder_of(n)), "
                        "name_of(n))",
                        nesting.first));
        line("define path_in(folder: text, name: text): text =");
        line("  if folder == \"\" then name else \"{folder}/{name}\"");
        break;
      case Nesting::Kind::behind:
      case Nesting::Kind::inside:
        line(nesting.kind == Nesting::Kind::inside
                 ? "define behind(n) = n + 1 + items[n].inside"
                 : fmt::format("define behind(n) = if items[n].behind > n and items[n].behind != {} then "
                               "items[n].behind else n + 1",
                               nesting.none));
        line("define inside(n) = chain(x from n + 1 while x < behind(n) then behind(x))");
        line("roots = chain(x from 0 while x < length(items) then behind(x))");
        break;
      case Nesting::Kind::children:
        line(fmt::format("define inside(n) = range(items[n].first{0}, items[n].first{0} + items[n].children)",
                         from));
        line(fmt::format("roots = range(0, {})", nesting.roots));
        break;
      case Nesting::Kind::links:
        line(fmt::format("define inside(n) = chain(x from items[n].first{0} while {1} then items[x].next{0})",
                         from, exists));
        line(exists == "x > 0"
                 ? "roots = range(0, 1)"
                 : fmt::format("roots = chain(x from 0 while {} then items[x].next{})", exists, from));
        break;
    }
    line("");
  }

  /// Entries come in the order of a tree of record numbers.
  bool by_tree() const {
    return found_.nesting && found_.nesting->kind != Nesting::Kind::parent &&
           found_.nesting->kind != Nesting::Kind::depth;
  }

  /// The condition under which a record is a folder.
  std::string is_folder() const {
    if (!found_.nesting) return "";
    switch (found_.nesting->kind) {
      case Nesting::Kind::parent:
        return fmt::format("any(x in items where x.parent == n{})", found_.nesting->first == 1 ? " + 1" : "");
      case Nesting::Kind::depth:
        return "n + 1 < length(items) and items[n + 1].depth > item.depth";
      case Nesting::Kind::behind:
      case Nesting::Kind::inside:
        return "behind(n) > n + 1";
      case Nesting::Kind::children:
        return "item.children > 0";
      case Nesting::Kind::links:
        return "length(inside(n)) > 0";
    }
    return "";
  }

  /// Entries that have no name are called by their number.
  bool numbered() const {
    return shape_.text == TextEnd::none && found_.column(Role::name) == nullptr && !found_.names;
  }

  std::string path_expression() const {
    const std::string number = "\"{n:04}{ending(plain)}\"";
    const Column* hash = found_.column(Role::hash);
    if (numbered()) return hash == nullptr ? number : fmt::format("known({}) else {}", hash->detail, number);
    if (by_tree()) return "trail(name_of(n), \"/\")";
    if (!found_.nesting) return own_name("item");
    return found_.nesting->kind == Nesting::Kind::parent ? "path_of(item)" : "path_of(n)";
  }

  /// Whether it takes the other text, too, to tell records apart.
  bool names_come_again() const {
    const std::vector<std::string>& names = found_.grid.texts;
    return shape_.other != OtherText::none &&
           std::set<std::string_view>(names.begin(), names.end()).size() < names.size();
  }

  std::string own_name(std::string_view item) const {
    std::string name = fmt::format("{}.name", item);
    if (names_come_again())
      name = fmt::format("(if {0}.other == \"\" then {0}.name else \"{{{0}.other}}/{{{0}.name}}\")", item);
    if (found_.names && !found_.names->place) {
      name = "names[n]";
    } else if (found_.names) {
      std::string at = found_.names_at == "0" ? fmt::format("{}.name_at", item)
                                              : fmt::format("{} + {}.name_at", found_.names_at, item);
      name = fmt::format("(text until 0 at {}{})", at, in_index());
    }
    return found_.backslashes ? fmt::format("slashes({})", name) : name;
  }

  void entry() {
    bool by_number = numbered() || (!placement_.offset && !shape_.data_behind) ||
                     (found_.names && !found_.names->place) || found_.nesting;
    const char* item = by_tree() ? "items[n]" : "item";
    std::string some = found_.nameless_end ? fmt::format(" where {}.name != \"\"", item)
                       : found_.sentinel   ? fmt::format(" where {}.at < {}", item, data_end())
                       : found_.nesting && found_.nesting->nameless ? " where n > 0"
                                                                    : "";
    if (by_tree()) {
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
    if (numbered()) {
      line(fmt::format("  let plain = {}", data));
      data = "plain";
    }
    line("  path = " + path_expression());
    line("  data = " + data);
    if (std::string folder = is_folder(); !folder.empty()) line("  folder = " + folder);
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
  bool big_ = false;
  bool has_[3] = {};
  std::uint64_t tail_ = 0;
  int tags_ = 0, named_ = 0;
};

}  // namespace

std::string draft(const Hypothesis& found, const Subject& subject, std::size_t same) {
  if (found.chunks) return draft_chunks(found, subject, same);
  return Writer(found, subject, same).make();
}

}  // namespace operculum::study
