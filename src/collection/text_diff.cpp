#include "collection/text_diff.h"

#include <fmt/format.h>

#include <algorithm>
#include <dtl/dtl.hpp>
#include <unordered_map>

#include "base/text.h"

namespace operculum {
namespace {

std::vector<std::string_view> lines_of(std::string_view text) {
  std::vector<std::string_view> lines = split(text, '\n');
  if (!lines.empty() && lines.back().empty()) lines.pop_back();
  return lines;
}

/// One step from the one text to the other.
struct Edit {
  char mark;
  std::size_t before = 0, after = 0;  // the line's place in both, from 0
};

/// All lines of both texts in order. What is the same at either end is not searched.
class Differ {
 public:
  Differ(const std::vector<std::string_view>& before, const std::vector<std::string_view>& after)
      : before_(before), after_(after) {}

  std::vector<Edit> edits() {
    std::size_t least = std::min(before_.size(), after_.size());
    while (front_ < least && before_[front_] == after_[front_]) ++front_;
    while (back_ < least - front_ && before_[before_.size() - 1 - back_] == after_[after_.size() - 1 - back_])
      ++back_;
    edits_.assign(front_, {' '});
    middle();
    edits_.insert(edits_.end(), back_, {' '});
    put_removed_first();
    number_lines();
    return std::move(edits_);
  }

 private:
  void middle() {
    std::vector<int> old_lines = numbers(before_), new_lines = numbers(after_);
    dtl::Diff<int> diff(old_lines, new_lines);
    diff.onHuge();
    diff.compose();
    for (const auto& [line, info] : diff.getSes().getSequence())
      edits_.push_back({info.type == dtl::SES_DELETE ? '-' : info.type == dtl::SES_ADD ? '+' : ' '});
  }

  /// Of lines that replace others the old ones are told first.
  void put_removed_first() {
    auto same = [](const Edit& edit) { return edit.mark == ' '; };
    for (auto begin = edits_.begin(); begin != edits_.end();) {
      begin = std::find_if_not(begin, edits_.end(), same);
      auto end = std::find_if(begin, edits_.end(), same);
      std::stable_partition(begin, end, [](const Edit& edit) { return edit.mark == '-'; });
      begin = end;
    }
  }

  void number_lines() {
    std::size_t before = 0, after = 0;
    for (Edit& edit : edits_) {
      edit.before = before;
      edit.after = after;
      before += edit.mark != '+' ? 1 : 0;
      after += edit.mark != '-' ? 1 : 0;
    }
  }

  /// Equal lines get equal numbers, so that comparing them costs nothing.
  std::vector<int> numbers(const std::vector<std::string_view>& lines) {
    std::vector<int> out;
    for (std::size_t i = front_; i + back_ < lines.size(); ++i)
      out.push_back(known_.try_emplace(lines[i], static_cast<int>(known_.size())).first->second);
    return out;
  }

  const std::vector<std::string_view>& before_;
  const std::vector<std::string_view>& after_;
  std::size_t front_ = 0, back_ = 0;  // lines that are the same at the beginning and at the end
  std::unordered_map<std::string_view, int> known_;
  std::vector<Edit> edits_;
};

}  // namespace

std::optional<TextDiff> diff_texts(std::string_view before, std::string_view after, std::size_t context) {
  std::vector<std::string_view> old_lines = lines_of(before), new_lines = lines_of(after);
  if (std::max(old_lines.size(), new_lines.size()) > kMostDiffLines) return std::nullopt;
  std::vector<Edit> edits = Differ(old_lines, new_lines).edits();
  TextDiff diff;
  for (std::size_t i = 0; i < edits.size(); ++i) {
    if (edits[i].mark == ' ') continue;
    std::size_t begin = i - std::min(i, context), end = i + 1, last = i;
    for (; end < edits.size() && end - last <= 2 * context; ++end) {  // hunks that would touch are one
      if (edits[end].mark != ' ') last = end;
    }
    end = std::min(edits.size(), last + 1 + context);
    DiffHunk hunk{edits[begin].before + 1, 0, edits[begin].after + 1, 0, {}};
    for (std::size_t at = begin; at < end; ++at) {
      const Edit& edit = edits[at];
      bool gone = edit.mark != '+', come = edit.mark != '-';
      hunk.before_count += gone ? 1 : 0;
      hunk.after_count += come ? 1 : 0;
      diff.removed += come ? 0 : 1;
      diff.added += gone ? 0 : 1;
      hunk.lines.push_back({edit.mark, std::string(gone ? old_lines[edit.before] : new_lines[edit.after])});
    }
    diff.hunks.push_back(std::move(hunk));
    i = end - 1;
  }
  diff.only_line_ends = diff.hunks.empty();
  return diff;
}

std::string unified(const TextDiff& diff) {
  std::string out;
  auto range = [](std::size_t at,
                  std::size_t count) {  // POSIX diff -u: an empty range is named by the line before
    std::string text = std::to_string(count == 0 ? at - 1 : at);
    return count == 1 ? text : fmt::format("{},{}", text, count);
  };
  for (const DiffHunk& hunk : diff.hunks) {
    out += fmt::format("@@ -{} +{} @@\n", range(hunk.before_at, hunk.before_count),
                       range(hunk.after_at, hunk.after_count));
    for (const DiffLine& line : hunk.lines) out.append(1, line.mark).append(line.text).append("\n");
  }
  return out;
}

}  // namespace operculum
