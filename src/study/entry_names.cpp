#include "study/entry_names.h"

#include <fmt/format.h>

#include <set>

namespace operculum::study {
namespace {

bool come_again(const std::vector<std::string>& names) {
  return std::set<std::string_view>(names.begin(), names.end()).size() < names.size();
}

}  // namespace

EntryNames::EntryNames(const Hypothesis& found, std::string_view in_index)
    : found_(found),
      in_index_(in_index),
      names_come_again_(found.grid.shape.other != OtherText::none && come_again(found.grid.texts)) {}

void EntryNames::define(DraftText& text) const {
  auto line = [&](const std::string& one) { text.line(one); };
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

bool EntryNames::by_tree() const {
  return found_.nesting && found_.nesting->kind != Nesting::Kind::parent &&
         found_.nesting->kind != Nesting::Kind::depth;
}

std::string EntryNames::folder() const {
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

bool EntryNames::numbered() const {
  return found_.grid.shape.text == TextEnd::none && found_.column(Role::name) == nullptr && !found_.names;
}

std::string EntryNames::path() const {
  const std::string number = "\"{n:04}{ending(plain)}\"";
  const Column* hash = found_.column(Role::hash);
  if (numbered()) return hash == nullptr ? number : fmt::format("known({}) else {}", hash->detail, number);
  if (by_tree()) return "trail(name_of(n), \"/\")";
  if (!found_.nesting) return own_name("item");
  return found_.nesting->kind == Nesting::Kind::parent ? "path_of(item)" : "path_of(n)";
}

std::string EntryNames::own_name(std::string_view item) const {
  std::string name = fmt::format("{}.name", item);
  if (names_come_again_)
    name = fmt::format("(if {0}.other == \"\" then {0}.name else \"{{{0}.other}}/{{{0}.name}}\")", item);
  if (found_.names && !found_.names->place) {
    name = "names[n]";
  } else if (found_.names) {
    std::string at = found_.names_at == "0" ? fmt::format("{}.name_at", item)
                                            : fmt::format("{} + {}.name_at", found_.names_at, item);
    name = fmt::format("(text until 0 at {}{})", at, in_index_);
  }
  return found_.backslashes ? fmt::format("slashes({})", name) : name;
}

}  // namespace operculum::study
