#include "task/kinds.h"

#include <magic.h>

#include <algorithm>

#include "base/error.h"
#include "base/text.h"
#include "container/identify.h"
#include "task/quick_kind.h"

namespace operculum {
namespace {

struct Rule {
  std::string_view type;  // the beginning of a media type
  std::string_view kind;
};

// The first rule that fits decides.
constexpr Rule kRules[] = {
    {"image/", "image"},
    {"audio/", "sound"},
    {"video/", "video"},
    {"font/", "font"},
    {"application/font", "font"},
    {"application/vnd.ms-opentype", "font"},
    {"text/x-shellscript", "script"},
    {"text/x-python", "script"},
    {"text/x-script", "script"},
    {"text/x-perl", "script"},
    {"text/x-ruby", "script"},
    {"text/x-lua", "script"},
    {"text/x-tcl", "script"},
    {"text/x-awk", "script"},
    {"text/x-msdos-batch", "script"},
    {"text/x-php", "script"},
    {"text/javascript", "script"},
    {"application/javascript", "script"},
    {"application/x-executable", "executable"},
    {"application/x-pie-executable", "executable"},
    {"application/x-sharedlib", "executable"},
    {"application/x-object", "executable"},
    {"application/x-dosexec", "executable"},
    {"application/vnd.microsoft.portable-executable", "executable"},
    {"application/x-mach-binary", "executable"},
    {"application/pdf", "document"},
    {"application/msword", "document"},
    {"application/vnd.o", "document"},
    {"application/json", "text"},
    {"text/", "text"},
    {"message/", "text"},
    {"application/x-empty", "empty"},
    {"inode/x-empty", "empty"},
    {"application/zip", "container"},
    {"application/x-tar", "container"},
    {"application/gzip", "container"},
};

// Languages whose text looks like any other text.
constexpr std::string_view kScriptEndings[] = {".bat", ".cmd", ".js", ".lua", ".pl",
                                               ".ps1", ".py",  ".rb", ".sh",  ".vbs"};

bool has_script_ending(std::string_view name) {
  std::string lower = to_lower(name);
  return std::any_of(std::begin(kScriptEndings), std::end(kScriptEndings),
                     [&](std::string_view ending) { return lower.ends_with(ending); });
}

/// The kind of a file that is no container.
std::string_view leaf_kind(std::string_view by_content, std::string_view name) {
  return by_content == "text" && has_script_ending(name) ? "script" : by_content;
}

std::string_view kind_of_type(std::string_view media_type) {
  auto rule = std::find_if(std::begin(kRules), std::end(kRules),
                           [&](const Rule& one) { return media_type.starts_with(one.type); });
  return rule == std::end(kRules) ? "data" : rule->kind;
}

// How libmagic is asked.
constexpr int kInWords = MAGIC_NO_CHECK_COMPRESS | MAGIC_NO_CHECK_TAR, kByType = kInWords | MAGIC_MIME_TYPE;

}  // namespace

std::span<const std::string_view> kind_names() {
  static constexpr std::string_view kNames[] = {"image",     "sound",  "video",      "font",
                                                "text",      "script", "executable", "document",
                                                "container", "data",   "empty"};
  return kNames;
}

KindReader::KindReader(const OpenContext& context) : context_(context), magic_(magic_open(kByType)) {
  if (magic_ == nullptr || magic_load(magic_, nullptr) != 0) {
    if (magic_ != nullptr) magic_close(magic_);
    throw IoError("cannot load the database of file kinds (libmagic)", ENOENT);
  }
}

KindReader::~KindReader() {
  magic_close(magic_);
}

/// By its first bytes, which are not none.
KindReader::Told KindReader::glance(ByteView head) {
  auto quick = quick_kind(head, head.size() < kKindHead);
  if (quick && !quick->media_type.empty()) return {quick->kind, std::string(quick->media_type)};
  std::string media_type = media_type_of(head);
  std::string_view kind = kind_of_type(media_type);
  return {kind, std::move(media_type)};
}

KindReader::Told KindReader::tell(Probe& probe, std::string_view name) {
  ByteView head = probe.head(kKindHead);
  if (head.empty()) return {"empty", "inode/x-empty"};
  Told told = glance(head);
  told.kind = kind_by(probe, name, [&] { return told.kind; });
  return told;
}

KindReader::Told KindReader::tell_leaf(Probe& probe, std::string_view name) {
  ByteView head = probe.head(kKindHead);
  if (head.empty()) return {"empty", "inode/x-empty"};
  Told told = glance(head);
  told.kind = starts_with(head, "#!") ? "script" : leaf_kind(told.kind, name);
  return told;
}

std::string_view KindReader::kind(Probe& probe, std::string_view name) {
  if (probe.head(kKindHead).empty()) return "empty";
  return kind_by(probe, name, [&] {
    ByteView head = probe.head(kKindHead);
    auto quick = quick_kind(head, head.size() < kKindHead);
    return quick ? quick->kind : kind_of_type(media_type_of(head));
  });
}

std::string KindReader::media_type_of(ByteView head) {
  const char* type = magic_buffer(magic_, head.data(), head.size());
  return type == nullptr ? "application/octet-stream" : type;
}

/// Containers by their recognisers, everything else by `otherwise()`.
template <typename Otherwise>
std::string_view KindReader::kind_by(Probe& probe, std::string_view name, Otherwise otherwise) {
  bool script = starts_with(probe.head(kKindHead), "#!");  // the view ends when a recogniser reads on
  const Format* format = recognise(probe);
  if (format == nullptr) format = recognise_described(probe, context_);
  if (format != nullptr) return format->kind;
  return script ? "script" : leaf_kind(otherwise(), name);
}

std::string KindReader::describe(Probe& probe) {
  ByteView head = probe.head(Probe::kReach);
  if (head.empty()) return "";
  magic_setflags(magic_, kInWords);  // the data base is the same
  const char* words = magic_buffer(magic_, head.data(), head.size());
  std::string text = words == nullptr || std::string_view(words) == "data" ? "" : words;
  magic_setflags(magic_, kByType);
  return text;
}

}  // namespace operculum
