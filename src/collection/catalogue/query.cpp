#include "collection/catalogue/query.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <unordered_map>
#include <unordered_set>

#include "base/text.h"

namespace operculum {
namespace {

constexpr std::string_view kColumns =
    "SELECT file.path, folder.text, name.text, entry.kind, entry.size, entry.modified, entry.depth, "
    "content.crc32, content.sha256, file.modified ";
constexpr std::string_view kContents = "LEFT JOIN content ON content.id = entry.content_id ";

std::string select_entries(std::string_view condition) {
  return fmt::format("{}{}{}{}", kColumns, kEntryJoins, kContents, condition);
}

std::string joined(const std::string& folder, const std::string& name) {
  return folder.empty() ? name : folder + "/" + name;
}

/// A sum in words: what tells two contents apart.
std::string sum_text(const Statement& row) {
  Bytes sha256 = row.bytes(8);
  if (!sha256.empty()) return to_hex(sha256);
  return row.is_null(7) || row.number(7) < 0 ? "" : fmt::format("crc32 {:08x}", row.number(7));
}

/// Conditions of a request as SQL; what SQL cannot say is asked of each row.
class Question {
 public:
  Question(Database& database, const FindRequest& request) : database_(database), request_(request) {
    if (!request.needles.empty() || !request.kinds.empty())
      throw Unsupported(
          "--text, --bytes and --only-kind in a catalogue, which does not know contents; name the places "
          "themselves");
    sql_ = select_entries("WHERE file.gone_at IS NULL ");
    if (request.least_size > 0) also(fmt::format("entry.size >= {}", request.least_size));
    if (request.most_size <= INT64_MAX) also(fmt::format("entry.size <= {}", request.most_size));
    std::string time = "coalesce(entry.modified, file.modified / 1000000000)";
    if (request.newer) also(fmt::format("{} >= {}", time, *request.newer));
    if (request.older) also(fmt::format("{} <= {}", time, *request.older));
    if (!request.digests.empty() || !request.files.empty()) also(contents());
    if (names_alone()) also(matching_names());
    sql_ += " ORDER BY file.path, entry.id";
  }

  Statement ask() { return database_.prepare(sql_); }

 private:
  void also(const std::string& condition) { sql_ += "AND (" + condition + ") "; }

  /// Digits were checked when they were read.
  std::string contents() const {
    std::string any;
    auto or_this = [&](const std::string& one) { any += (any.empty() ? "" : " OR ") + one; };
    for (const WantedDigest& wanted : request_.digests) {
      std::string one = wanted.sum == "crc32"
                            ? fmt::format("content.crc32 = {}", *parse_number(wanted.digits, 16))
                            : fmt::format("content.sha256 = x'{}'", wanted.digits);
      if (wanted.sum != "crc32" && wanted.sum != "sha256")
        throw Unsupported(fmt::format("{} in a catalogue, which knows CRC-32 and SHA-256", wanted.sum));
      or_this(one);
    }
    for (const auto& file : request_.files)
      or_this(fmt::format(
          "content.sha256 = x'{}' OR (content.sha256 = x'' AND content.crc32 = {} AND entry.size = {})",
          file->sha256(), file->crc32(), file->size()));
    return any;
  }

  /// Patterns without a slash are held against names and folders, each of which is kept once.
  bool names_alone() const {
    const std::vector<Glob>& match = request_.selection.match.patterns();
    return !match.empty() && !request_.selection.listed &&
           std::none_of(match.begin(), match.end(),
                        [](const Glob& glob) { return glob.pattern().find('/') != std::string::npos; });
  }

  /// True of every row where so much fits that asking each is quicker.
  std::string matching_names() {
    auto names = matching("name"), folders = matching("folder");
    if (!names || !folders) return "true";
    std::string any;
    if (!names->empty()) any = fmt::format("entry.name_id IN ({})", *names);
    if (!folders->empty())
      any += fmt::format("{}entry.folder_id IN ({})", any.empty() ? "" : " OR ", *folders);
    return any.empty() ? "false" : any;
  }

  /// The ids of texts that fit, with commas between; nothing when there are very many.
  std::optional<std::string> matching(std::string_view table) {
    std::string ids;
    std::size_t count = 0;
    Statement rows = database_.prepare(fmt::format("SELECT id, text FROM {}", table));
    while (rows.step()) {
      std::string text = rows.text(1);
      if (!request_.selection.match.matches(text)) continue;
      if (++count > kMostIds) return std::nullopt;
      ids += (ids.empty() ? "" : ",") + std::to_string(rows.number(0));
    }
    return ids;
  }

  static constexpr std::size_t kMostIds = 20'000;

  Database& database_;
  const FindRequest& request_;
  std::string sql_;
};

/// Something in a file, as far as a catalogue tells.
struct Listed {
  EntryKind kind = EntryKind::file;
  std::uint64_t size = Entry::kUnknownSize;
  std::string sum;
  bool nested = false;        ///< it lies in a container within the file
  bool is_container = false;  ///< entries of the catalogue lie in it
};

std::map<std::string, Listed> entries_of(Database& database, const std::string& path) {
  Statement file = database.prepare("SELECT id FROM file WHERE path = ?1 AND gone_at IS NULL");
  file.bind(1, path);
  if (!file.step())
    throw Malformed(fmt::format("{} is not in the catalogue, which knows files by their paths from the root",
                                escape(path)));
  std::int64_t id = file.number(0);
  Statement rows = database.prepare(select_entries("WHERE entry.file_id = ?1"));
  rows.bind(1, id);
  std::map<std::string, Listed> out;
  std::vector<std::string> inner;
  while (rows.step()) {
    std::string entry_path = joined(rows.text(1), rows.text(2));
    bool nested = rows.number(6) > 0;
    out[entry_path] = {static_cast<EntryKind>(rows.number(3)), rows.size(4), sum_text(rows), nested, false};
    if (nested) inner.push_back(entry_path);
  }
  for (const std::string& entry_path : inner) {
    for (std::size_t slash = entry_path.find('/'); slash != std::string::npos;
         slash = entry_path.find('/', slash + 1)) {
      auto around = out.find(entry_path.substr(0, slash));
      if (around != out.end() && around->second.kind == EntryKind::file) around->second.is_container = true;
    }
  }
  return out;
}

}  // namespace

FindTotals find_in_catalogue(Database& database, const FindRequest& request, const FindEvents& events) {
  Question question(database, request);
  FindTotals totals;
  totals.targets =
      static_cast<std::uint64_t>(database.number("SELECT count(*) FROM file WHERE gone_at IS NULL"));
  std::unordered_set<std::string> with;
  Statement rows = question.ask();
  while (rows.step()) {
    std::string path = joined(rows.text(1), rows.text(2));
    if (!request.selection.wants(path)) continue;
    FoundFile found{rows.text(0) + "/" + path,
                    rows.text(0),
                    path,
                    static_cast<EntryKind>(rows.number(3)),
                    rows.size(4),
                    {},
                    sum_text(rows),
                    {}};
    found.modified = from_unix(rows.is_null(5) ? rows.number(9) / 1'000'000'000 : rows.number(5));
    if (found.sha256.empty()) found.sha256 = "no sum of " + found.locator;  // of its own kind
    ++totals.found;
    with.insert(found.target);
    events.found(found);
    if (request.first) break;
  }
  totals.targets_with = with.size();
  return totals;
}

CompareTotals compare_in_catalogue(Database& database, const std::string& before, const std::string& after,
                                   const CompareRequest& request, const DifferenceSink& sink) {
  std::map<std::string, Listed> ours = entries_of(database, before), theirs = entries_of(database, after);
  CompareTotals totals;
  std::vector<Difference> removed, added;
  auto passed_over = [&](const Listed& entry) {
    return entry.kind == EntryKind::folder ||
           (entry.nested ? !request.deep : request.deep && entry.is_container);
  };
  for (const auto& [path, entry] : ours) {
    if (passed_over(entry)) continue;
    auto other = theirs.find(path);
    if (other == theirs.end()) {
      removed.push_back({Difference::Kind::removed, path, "", entry.kind, entry.size, 0});
      continue;
    }
    const Listed& now = other->second;
    Difference changed{Difference::Kind::changed, path, "", entry.kind, entry.size, now.size};
    bool sized = entry.size != Entry::kUnknownSize && now.size != Entry::kUnknownSize;
    if (entry.kind != now.kind || (sized && entry.size != now.size) ||
        (!entry.sum.empty() && !now.sum.empty() && entry.sum != now.sum)) {
      ++totals.changed;
      sink(changed);
    } else if (entry.kind == EntryKind::file && entry.size != 0 && (entry.sum.empty() || now.sum.empty())) {
      ++totals.unreadable;
      changed.kind = Difference::Kind::unreadable;
      changed.message = "the catalogue has no sum of both; --digests when it is made takes them";
      sink(changed);
    } else {
      ++totals.same;
    }
  }
  for (const auto& [path, entry] : theirs) {
    if (!passed_over(entry) && !ours.contains(path))
      added.push_back({Difference::Kind::added, path, "", entry.kind, 0, entry.size});
  }
  std::unordered_multimap<std::string, Difference*> by_sum;
  auto key = [](const Listed& entry) {
    return entry.sum.empty() || entry.size == 0 ? "" : fmt::format("{}:{}", entry.size, entry.sum);
  };
  for (Difference& one : added) by_sum.emplace(key(theirs.at(one.path)), &one);
  for (Difference& one : removed) {
    std::string sum = key(ours.at(one.path));
    auto same = sum.empty() ? by_sum.end() : by_sum.find(sum);
    if (same == by_sum.end()) {
      ++totals.removed;
      sink(one);
      continue;
    }
    ++totals.moved;
    one.kind = Difference::Kind::moved;
    one.new_path = same->second->path;
    one.after_size = one.before_size;
    same->second->kind = Difference::Kind::moved;
    by_sum.erase(same);
    sink(one);
  }
  for (const Difference& one : added) {
    if (one.kind != Difference::Kind::added) continue;
    ++totals.added;
    sink(one);
  }
  return totals;
}

}  // namespace operculum
