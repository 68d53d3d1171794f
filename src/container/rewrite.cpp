#include "container/rewrite.h"

#include <fmt/format.h>

#include <thread>

#include "base/checksum.h"
#include "base/error.h"
#include "base/text.h"
#include "codec/settings_search.h"
#include "io/read_ahead.h"

namespace operculum {
namespace {

/// Passes plain bytes on and takes their checksum and number.
class MeasuredStream final : public Stream {
 public:
  MeasuredStream(StreamPtr inner, PackedContent& measured) : inner_(std::move(inner)), measured_(measured) {}
  std::size_t read(ByteSpan out) override {
    std::size_t count = inner_->read(out);
    measured_.crc32 = crc32(measured_.crc32, out.first(count));
    measured_.plain_size += count;
    return count;
  }

 private:
  StreamPtr inner_;
  PackedContent& measured_;
};

}  // namespace

unsigned threads_of(const PackChoice& choice) {
  return choice.jobs > 0 ? choice.jobs : std::max(1u, std::thread::hardware_concurrency());
}

PackedContent pack_content(const Content& content, std::string_view codec, const PackSettings& settings,
                           SpoolBudget& budget) {
  PackedContent out;
  SourcePtr plain = content.source();
  if (codec == "stored" && plain && !plain->costly()) {  // it lies there already
    MeasuredStream measured(make_source_stream(plain), out);
    measured.skip(UINT64_MAX);
    out.bytes = plain;
    return out;
  }
  StreamPtr from =
      plain ? make_source_stream(plain) : make_read_ahead(content.stream());  // decodes meanwhile
  StreamPtr packed = open_encoder(codec, std::make_unique<MeasuredStream>(std::move(from), out), settings);
  out.bytes = spool(*packed, budget);
  return out;
}

PackSettings settings_like(std::string_view codec, const SourcePtr& original, const Content& plain,
                           std::uint64_t plain_size, const std::string& path, const Writing& writing) {
  PackSettings shown = shown_settings(codec, *original, plain_size);
  if (writing.choice.level) {
    shown.level = writing.choice.level;
    return shown;
  }
  if (codec == "stored" || !writing.choice.seek_settings) return shown;
  std::optional<PackSettings> found;
  try {
    found = find_settings(codec, original, plain, plain_size);
  } catch (const std::exception&) {
    return shown;  // what was there cannot be read, which is no reason not to replace it
  }
  if (found) {  // more threads work on the same blocks
    if (found->threads > 0) found->threads = threads_of(writing.choice);
    return *found;
  }
  writing.note(path, fmt::format("packed with {} at {}; the original was made by another encoder", codec,
                                 text_of(shown)));
  return shown;
}

}  // namespace operculum
