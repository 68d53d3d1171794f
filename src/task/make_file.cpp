#include "task/make_file.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/checksum.h"
#include "base/error.h"
#include "base/text.h"
#include "codec/codec.h"
#include "container/packed_run.h"
#include "io/read_ahead.h"
#include "task/new_file.h"
#include "task/rebuild_check.h"

namespace operculum {
namespace {

std::vector<std::string_view> ids_that_can_be_made() {
  std::vector<std::string_view> ids;
  for (const Format& format : formats()) {
    if (format.pack || !format.codec.empty()) ids.push_back(format.id);
  }
  return ids;
}

const Format* described_as(std::string_view word, const OpenContext& context) {
  auto named = [&](const Format& format) { return format.id == word && format.pack != nullptr; };
  auto own = std::find_if(context.preferred.begin(), context.preferred.end(), named);
  if (own != context.preferred.end()) return &*own;
  if (!context.described) return nullptr;
  std::span<const Format> others = context.described();
  auto other = std::find_if(others.begin(), others.end(), named);
  return other == others.end() ? nullptr : &*other;
}

const Format* format_named(std::string_view word, const OpenContext& context) {
  for (const Format& format : formats()) {
    if (format.id == word) return &format;
  }
  if (const Format* found = format_for_name(fmt::format("x.{}", word))) return found;
  return described_as(word, context);
}

/// Takes the number and the digest of all bytes that pass.
class Measured final : public Stream {
 public:
  Measured(StreamPtr inner, Progress& progress) : inner_(std::move(inner)), progress_(progress) {}
  std::size_t read(ByteSpan out) override {
    std::size_t count = inner_->read(out);
    sum_ = crc32(sum_, out.first(count));
    size_ += count;
    progress_.bytes += count;
    return count;
  }
  bool operator==(const Measured& other) const { return sum_ == other.sum_ && size_ == other.size_; }

 private:
  StreamPtr inner_;
  Progress& progress_;
  std::uint32_t sum_ = 0;
  std::uint64_t size_ = 0;
};

void drain(Stream& stream) {
  stream.skip(UINT64_MAX);
}

/// A fresh container has nothing of an older one: all of its entries are new.
void check_container(const FileToMake& what, const SourcePtr& made, OpenContext& context,
                     Progress& progress) {
  struct Nothing final : Container {
    std::span<const Entry> entries() override { return {}; }
    ContentPtr content(std::size_t) override { return nullptr; }
  };
  auto nothing = std::make_shared<Nothing>();
  RebuildLayer layer{
      what.container, nothing, nothing, make_memory_source({}), std::string(base_name(what.into)), 0};
  PlannedLayer plan;
  plan.changes.added = what.entries;
  plan.source = made;
  if (what.container->single_stream) {  // its one entry has a name of the reader's
    Input input{make_content(made), layer.name};
    plan.changes.added.at(0).path = what.container->open(input, context)->entries()[0].path;
  }
  check_plan(layer, plan, false, context, progress);
}

class Maker {
 public:
  Maker(const FileToMake& what, OpenContext& context, Progress& progress)
      : what_(what),
        context_(context),
        progress_(progress),
        writing_{what.choice, context.spool, [](const std::string&, const std::string&) {}} {}

  RebuildResult run() {
    for (const NewEntry& entry : what_.entries)
      result_.fates.push_back({Fate::Kind::added, entry.path, "", Entry::kUnknownSize, entry.size, {}});
    ContentPtr bytes = what_.bytes;
    std::optional<std::uint64_t> size = what_.size;
    if (what_.container != nullptr) {
      if (what_.container->family == "described") tell_names();
      Assembly made = what_.container->pack(what_.entries, writing_);
      check_container(what_, made.source(), context_, progress_);
      result_.compared = what_.entries.size();
      if (what_.codecs.empty()) return finish(made);
      bytes = make_content(made.source());
      size = made.size();
    } else if (what_.codecs.empty()) {
      Assembly plain;
      plain.add(random_access(*bytes, context_.spool));
      return finish(plain);
    }
    if (what_.dry_run) return std::move(result_);
    if (SourcePtr there = packed_already()) {
      keep_packed(there, *bytes);
    } else {
      pack_around(*bytes, size);
    }
    return std::move(result_);
  }

 private:
  /// Where a container has the hashes of names alone, they are known to whoever reads it back.
  void tell_names() {
    for (const NewEntry& entry : what_.entries) context_.known_names.push_back(entry.path);
  }

  RebuildResult finish(const Assembly& made) {
    result_.new_size = made.size();
    if (what_.dry_run) return std::move(result_);
    NewFile file;
    file.path = what_.into;
    SourcePtr none = make_memory_source({});
    file.check = [&](const Source& written) {
      check_written(written, made, *none, false, what_.choice.jobs, progress_);
    };
    result_.written = write_new_file(made, file, progress_).path;
    return std::move(result_);
  }

  PackSettings settings_of(const std::optional<std::uint64_t>& size) const {
    PackSettings settings;
    settings.level = what_.choice.level;
    settings.plain_size = size;
    settings.threads = threads_of(what_.choice);
    return settings;
  }

  /// What lies packed elsewhere just as it is to be; null where it does not, or a level was asked for.
  SourcePtr packed_already() const {
    if (!what_.packed || what_.codecs.size() != 1 || what_.choice.level) return nullptr;
    std::string_view codec = what_.codecs[0]->codec;
    if (auto there = taken_over(*what_.packed, codec)) return there->bytes;
    if (codec != "gzip") return nullptr;
    auto deflate = taken_over(*what_.packed, "deflate");
    return deflate ? as_gzip(*deflate) : nullptr;
  }

  void keep_packed(const SourcePtr& packed, const Content& bytes) {
    Measured plain(make_read_ahead(bytes.stream()), progress_);
    drain(plain);
    write_compared(*make_source_stream(packed), plain);
  }

  void pack_around(const Content& bytes, const std::optional<std::uint64_t>& size) {
    auto measured = std::make_unique<Measured>(make_read_ahead(bytes.stream()), progress_);
    Measured* plain = measured.get();
    StreamPtr packed = std::move(measured);
    bool innermost = true;
    for (const Format* format : what_.codecs) {
      packed = open_encoder(format->codec, std::move(packed), settings_of(innermost ? size : std::nullopt));
      innermost = false;
    }
    write_compared(*packed, *plain);
  }

  /// `plain` has passed when all of `packed` was read.
  void write_compared(Stream& packed, const Measured& plain) {
    NewFile file;
    file.path = what_.into;
    file.check = [&](const Source& written) { compare(written, plain); };
    WrittenFile made = write_new_stream(packed, file, progress_);
    result_.written = made.path;
    result_.new_size = made.size;
  }

  /// Unpacks what was written and compares it with what went in.
  void compare(const Source& written, const Measured& plain) const {
    struct Borrowed final : Source {
      explicit Borrowed(const Source& of) : inner(of) {}
      std::uint64_t size() const override { return inner.size(); }
      std::size_t read_at(std::uint64_t offset, ByteSpan out) const override {
        return inner.read_at(offset, out);
      }
      const Source& inner;
    };
    StreamPtr stream = make_source_stream(std::make_shared<Borrowed>(written));
    for (std::size_t i = what_.codecs.size(); i-- > 0;)
      stream = open_decoder(what_.codecs[i]->codec, std::move(stream));
    Progress none;
    Measured again(std::move(stream), none);
    drain(again);
    if (!(again == plain)) {
      throw Malformed(
          "the result was not kept: other bytes come out than went in (a mistake of this program, please "
          "tell "
          "its makers)");
    }
  }

  const FileToMake& what_;
  OpenContext& context_;
  Progress& progress_;
  Writing writing_;
  RebuildResult result_;
};

}  // namespace

FileToMake formats_of(const std::string& word, const OpenContext& context) {
  FileToMake out;
  bool first = true;
  auto refuse = [&](std::string_view part) {
    throw Unsupported(
        fmt::format("making a \"{}\"; what can be made: {}, one in another, such as tar.xz, and what a "
                    "description describes, by its name or its file",
                    escape(part), fmt::join(ids_that_can_be_made(), ", ")));
  };
  if (word.find('.') != std::string::npos) out.container = described_as(word, context);
  if (out.container != nullptr) return out;
  for (std::string_view part : split(word, '.')) {
    if (part.empty()) continue;
    const Format* found = format_named(part, context);
    if (found == nullptr || (!found->pack && found->codec.empty())) refuse(part);
    bool short_for_two = !found->codec.empty() && part.starts_with('t') && found->id != part;  // "tgz"
    if (short_for_two && first) out.container = format_named("tar", context);
    if (!found->codec.empty()) {
      out.codecs.push_back(found);
    } else if (first) {
      out.container = found;
    } else {
      refuse(word);
    }
    first = false;
  }
  if (first) refuse(word);
  return out;
}

RebuildResult make_file(const FileToMake& what, OpenContext& context, Progress& progress) {
  return Maker(what, context, progress).run();
}

}  // namespace operculum
