#include "layout/rewrite/name_parts.h"

#include <algorithm>
#include <set>

#include "base/path_parts.h"
#include "base/sum_kinds.h"
#include "base/text.h"
#include "layout/plan/read_plan.h"

namespace operculum::layout {
namespace {

struct Texts {
  std::string before, after;
};

std::string turned(std::string text) {
  std::replace(text.begin(), text.end(), '/', '\\');
  return text;
}

/// What of a path a text may be.
std::vector<Texts> pieces_of(const std::string& before, const std::string& after) {
  std::string old_name(base_name(before)), new_name(base_name(after));
  std::string old_folder(folder_part(before)), new_folder(folder_part(after));
  std::vector<Texts> out = {{before, after}};
  if (!old_folder.empty() || !new_folder.empty()) out.push_back({turned(before), turned(after)});
  if (old_folder == new_folder) {
    if (!old_folder.empty()) out.push_back({old_name, new_name});
    std::size_t old_dot = old_name.rfind('.'), new_dot = new_name.rfind('.');
    bool same_ending = old_dot != std::string::npos && new_dot != std::string::npos && old_dot > 0 &&
                       new_dot > 0 && old_name.substr(old_dot) == new_name.substr(new_dot);
    if (same_ending) {
      out.push_back({before.substr(0, before.rfind('.')), after.substr(0, after.rfind('.'))});
      if (!old_folder.empty()) out.push_back({old_name.substr(0, old_dot), new_name.substr(0, new_dot)});
    }
  } else if (old_name == new_name && !old_folder.empty() && !new_folder.empty()) {
    out.push_back({old_folder.substr(0, old_folder.size() - 1), new_folder.substr(0, new_folder.size() - 1)});
  }
  return out;
}

std::optional<Bytes> encoded(const std::string& text, const std::string& encoding) {
  if (encoding.empty() || encoding == "UTF-8") return Bytes(text.begin(), text.end());
  auto out = from_utf8(text, encoding);
  if (!out) return std::nullopt;
  return Bytes(out->begin(), out->end());
}

/// The last number with a value among those that were read before a text was.
std::optional<NumberRead> told_length(const Survey& survey, const TextRead& read, bool in_front) {
  const auto& numbers = survey.head.numbers;
  constexpr std::size_t kNear = 64;
  std::size_t end = std::min(read.numbers, numbers.size());
  for (std::size_t i = end; i-- > (end > kNear ? end - kNear : 0);) {
    bool fits = numbers[i].value == static_cast<std::int64_t>(read.length);
    if (fits && (!in_front || numbers[i].at + numbers[i].width == read.at)) return numbers[i];
  }
  if (!in_front) return std::nullopt;
  for (const NumberRead& number : numbers)  // it was read when the record was
    if (number.at + number.width == read.at && number.value == static_cast<std::int64_t>(read.length))
      return number;
  return std::nullopt;
}

/// In its place, what is left of the old text filled up.
TextEdit in_place(const TextRead& read, Bytes with, std::string_view filler) {
  for (std::size_t i = 0; with.size() < read.length; ++i)
    with.push_back(static_cast<Byte>(filler.empty() ? '\0' : filler[i % filler.size()]));
  return {read.at, read.at + read.length, std::move(with), {}, {}};
}

/// With just the room that it needs.
TextEdit exact(const TextRead& read, const Bytes& with, const std::optional<NumberRead>& length) {
  TextEdit out{read.at, read.at + read.length, with, {}, {}};
  std::int64_t by = static_cast<std::int64_t>(with.size()) - static_cast<std::int64_t>(read.length);
  if (length && by != 0) out.numbers.push_back({*length, by});
  return out;
}

}  // namespace

std::vector<NamePart> name_parts(const Survey& survey, const std::string& before, const std::string& after) {
  std::vector<NamePart> out;
  std::set<std::pair<std::uint64_t, std::uint64_t>>
      seen;  // where it lies, and the number read last before it
  std::map<std::pair<std::string, std::string>, std::optional<Bytes>> known;  // by encoding and text
  auto as_bytes_in = [&](const std::string& encoding,
                         const std::string& text) -> const std::optional<Bytes>& {
    auto [at, fresh] = known.try_emplace({encoding, text});
    if (fresh) at->second = encoded(text, encoding);
    return at->second;
  };
  std::vector<Texts> pieces = pieces_of(before, after);
  for (const TextRead& read : survey.head.texts) {
    bool after_number = read.numbers > 0 && read.numbers <= survey.head.numbers.size();
    std::pair way(read.at, after_number ? survey.head.numbers[read.numbers - 1].at : UINT64_MAX);
    if (seen.contains(way)) continue;
    Bytes raw;  // read for the first piece that could be it
    for (const Texts& piece : pieces) {
      const auto& wanted = as_bytes_in(read.plan->encoding, piece.before);
      if (!wanted || wanted->empty() || wanted->size() > read.length) continue;
      if (wanted->size() < read.length && !read.plan->padding) continue;
      if (raw.empty()) raw = read_exactly(*survey.file.source, read.at, read.length, "a name");
      if (!std::equal(wanted->begin(), wanted->end(), raw.begin())) continue;
      std::string_view rest = as_text(raw).substr(wanted->size());
      bool filled = rest.empty() || rest.front() == '\0' || rest.starts_with(*read.plan->padding);
      if (!filled) continue;
      seen.insert(way);
      out.push_back({&read, piece.after});
      break;
    }
  }
  return out;
}

std::vector<TextEdit> edits_of(const Survey& survey, const NamePart& part) {
  using Ends = TextPlan::Ends;
  const TextRead& read = *part.read;
  const TextPlan& plan = *read.plan;
  auto with = encoded(part.text, plan.encoding);
  if (!with) return {};
  std::vector<TextEdit> out;
  bool fits = with->size() <= read.length;
  if (plan.padding && fits) out.push_back(in_place(read, *with, *plan.padding));
  if (plan.ends == Ends::length && plan.fixed) {
    if (!plan.padding && with->size() == read.length) out.push_back(exact(read, *with, {}));
    return out;
  }
  bool sized = plan.ends == Ends::sized;
  std::optional<NumberRead> length;
  if (sized || plan.ends == Ends::length) length = told_length(survey, read, sized);
  out.push_back(exact(read, *with, length));
  if (fits && sized && length) {
    out.push_back(in_place(read, *with, ""));
    out.back().numbers = exact(read, *with, length).numbers;
  }
  if (plan.ends != Ends::mark) return out;
  Bytes ended = *with;
  ended.insert(ended.end(), plan.mark.begin(), plan.mark.end());
  if (ended.size() <= read.length) out.push_back(in_place(read, ended, ""));
  if (survey.file.part_at(read.at) != nullptr) return out;
  std::uint64_t end = survey.file.size();
  for (const NumberRead& number : numbers_before(survey, read.numbers))
    out.push_back({read.at, read.at, {}, {{number, static_cast<std::int64_t>(end - read.at)}}, ended});
  return out;
}

std::vector<std::vector<NumberChange>> hash_changes(const Survey& survey, const std::string& before,
                                                    const std::string& after) {
  std::vector<std::vector<NumberChange>> out;
  for (const NameHash& hash : name_hashes()) {
    for (bool lower : {false, true}) {
      if (lower && to_lower(before) == before && to_lower(after) == after) continue;  // the same again
      auto told = static_cast<std::int64_t>(hash.of(lower ? to_lower(before) : before));
      auto wanted = static_cast<std::int64_t>(hash.of(lower ? to_lower(after) : after));
      std::set<std::uint64_t> seen;
      for (const NumberRead& read : survey.head.numbers) {
        if (read.value == told && read.width >= 4 && seen.insert(read.at).second)
          out.push_back({{read, wanted - told}});
      }
    }
  }
  return out;
}

std::vector<NumberRead> numbers_before(const Survey& survey, std::size_t count) {
  constexpr std::size_t kMost = 4;
  std::vector<NumberRead> out;
  const auto& numbers = survey.head.numbers;
  for (std::size_t i = std::min(count, numbers.size()); i-- > 0 && out.size() < kMost;) {
    bool known =
        std::any_of(out.begin(), out.end(), [&](const NumberRead& one) { return one.at == numbers[i].at; });
    if (!known) out.push_back(numbers[i]);
  }
  return out;
}

}  // namespace operculum::layout
