#include "container/outer_file.h"

#include <fmt/format.h>
#include <sys/stat.h>

#include <algorithm>
#include <cerrno>

#include "base/text.h"
#include "container/identify.h"
#include "container/parts.h"
#include "io/fronted_stream.h"
#include "io/http_source.h"
#include "io/incoming.h"
#include "io/standard_input.h"

namespace operculum {
namespace {

/// A locator in two: what is opened, and what is looked for in it.
struct Cut {
  std::string file, rest;
};

Cut cut_at(const std::string& locator, std::size_t end) {
  std::size_t rest = locator.find_first_not_of('/', end);
  return {locator.substr(0, end), rest == std::string::npos ? "" : locator.substr(rest)};
}

/// The longest prefix of the locator that is a file on disk.
Cut find_file(const std::string& locator) {
  for (std::size_t end = locator.size();;) {
    std::string path = locator.substr(0, end);
    struct stat status {};
    if (!path.empty() && stat(path.c_str(), &status) == 0) {
      if (!S_ISDIR(status.st_mode)) return cut_at(locator, end);
      if (end == locator.size()) throw IoError(escape(locator), EISDIR);
      break;
    }
    if (!path.empty() && errno != ENOENT && errno != ENOTDIR) throw IoError(escape(path), errno);
    std::size_t slash = locator.rfind('/', end - 1);
    if (end == 0 || slash == std::string::npos || slash == 0) break;
    end = slash;
  }
  throw IoError(escape(locator), ENOENT);
}

/// What a file really takes: holes in it are worth nothing.
std::uint64_t bytes_on_disk(const std::string& path, const Source& source) {
  struct stat status {};
  bool parts = path.ends_with(".001");
  if (parts || stat(path.c_str(), &status) != 0 || !S_ISREG(status.st_mode)) return source.size();
  constexpr std::uint64_t kBlockUnit = 512;  // of st_blocks
  std::uint64_t blocks = static_cast<std::uint64_t>(status.st_blocks) * kBlockUnit;
  return blocks == 0 ? source.size() : std::min(source.size(), blocks);  // 0: kept in the inode, or not told
}

constexpr std::string_view kStandardInput[] = {"-", "/dev/stdin"};

/// How much of a locator means standard input; 0 when none of it does.
std::size_t standard_input_length(const std::string& locator) {
  for (std::string_view name : kStandardInput) {
    if (locator.starts_with(name) && (locator.size() == name.size() || locator[name.size()] == '/'))
      return name.size();
  }
  return 0;
}

/// Ways to cut a URL, the likeliest first: behind a part that is named as containers are, then nowhere.
std::vector<Cut> cuts_of(const std::string& url, const OpenContext* context) {
  if (std::size_t mark = url.find('#'); mark != std::string::npos) {
    Cut cut = cut_at(url, mark + 1);
    cut.file.pop_back();
    return {cut};
  }
  std::vector<Cut> cuts;
  std::size_t query = std::min(url.find('?'), url.size());
  for (std::size_t slash = url.find('/', url.find("://") + 3); slash < query;) {
    std::size_t next = std::min(url.find('/', slash + 1), query);
    std::string part = url.substr(slash + 1, next - slash - 1);
    if (next < query && format_for_name(part, context) != nullptr) cuts.push_back(cut_at(url, next));
    slash = next;
  }
  cuts.push_back({url, ""});
  return cuts;
}

HttpOptions http_options(OpenContext& context) {
  HttpOptions options = context.http;
  options.credentials = [keys = context.keys](const std::string& host,
                                              const auto& works) mutable -> std::optional<std::string> {
    auto fits = [&](const std::string& secret) {
      return secret.find(':') != std::string::npos && works(secret) ? KeyRing::Fit::yes : KeyRing::Fit::no;
    };
    auto key = keys.find_for_host(host, fits);
    return key ? std::optional(key->secret) : std::nullopt;
  };
  return options;
}

/// Bytes that come in once, kept (by `keep`) only where their format needs more than that.
OuterFile open_incoming(const Cut& cut, StreamPtr stream, std::string what, OpenContext& context,
                        const std::function<SourcePtr(StreamPtr)>& keep) {
  OuterFile file{cut.file, cut.rest};
  context.limits.begin(0, 0);
  ContentPtr content = make_incoming(std::move(stream), std::move(what),
                                     [&context](std::uint64_t bytes) { context.limits.count_came(bytes); });
  LookedAt looked = look_at_front(content, Probe::kReach);
  Probe front(std::move(looked.front), looked.complete, "");
  const Format* format = recognise(front, context);
  file.content = looked.content;
  if (format == nullptr || !format->forward) file.source = keep(looked.content->stream());
  return file;
}

OuterFile open_standard_input(const Cut& cut, OpenContext& context) {
  std::uint64_t most = context.limits.max_spool;
  if (!context.once || !cut.rest.empty()) return {cut.file, cut.rest, standard_input(most)};
  return open_incoming(cut, standard_input_stream(), "standard input", context,
                       [most](StreamPtr begun) { return standard_input(most, std::move(begun)); });
}

OuterFile open_url_at(const Cut& cut, OpenContext& context) {
  if (!context.once || !cut.rest.empty())
    return {cut.file, cut.rest, open_url(cut.file, http_options(context), context.spool)};
  FromServer got = open_url_once(cut.file, http_options(context));
  if (got.source) return {cut.file, cut.rest, got.source};
  return open_incoming(cut, std::move(got.stream), "what this server sends as a whole", context,
                       [&context](const StreamPtr& stream) { return spool(*stream, context.spool); });
}

OuterFile open_on_server(const std::string& locator, OpenContext& context) {
  std::vector<Cut> cuts = cuts_of(locator, &context);
  for (const Cut& cut : cuts) {
    bool last = &cut == &cuts.back();
    try {
      return open_url_at(cut, context);
    } catch (const IoError& error) {
      if (last || error.error_number() != ENOENT) throw;
    }
  }
  throw IoError(escape(locator), ENOENT);
}

}  // namespace

OuterFile open_outer_file(const std::string& locator, OpenContext& context) {
  std::size_t input = standard_input_length(locator);
  if (is_url(locator) || input > 0) {
    OuterFile file =
        input > 0 ? open_standard_input(cut_at(locator, input), context) : open_on_server(locator, context);
    if (file.source) file.stored = file.source->size();
    return file;
  }
  Cut cut = find_file(locator);
  OuterFile file{cut.file, cut.rest};
  file.source = open_with_parts(cut.file, file.parts);
  file.stored = bytes_on_disk(cut.file, *file.source);
  file.sibling = file_sibling(cut.file);
  return file;
}

std::string file_of(const std::string& locator, const OpenContext* context) {
  if (is_url(locator)) return cuts_of(locator, context).front().file;
  if (standard_input_length(locator) > 0) return "-";
  try {
    return find_file(locator).file;
  } catch (const IoError&) {
    return "";
  }
}

}  // namespace operculum
