#include "format/archive/zip_data.h"

#include "base/cursor.h"
#include "base/error.h"
#include "cipher/zip_aes.h"
#include "cipher/zip_traditional.h"

namespace operculum::zip {
namespace {

/// 5.8.8: two bytes of version, two of property size, the properties; bit 1 says that an end mark is there.
void read_lzma_header(Stream& packed, std::uint16_t flags, CodecOptions& options) {
  Bytes head(9);
  if (read_fully(packed, head) < head.size()) throw CutShort("LZMA data: it ends within its header");
  Cursor cursor(head, "zip LZMA header");
  cursor.skip(2);
  if (std::uint16_t size = cursor.u16le(); size != 5)
    cursor.fail("5 bytes of LZMA properties", std::to_string(size));
  ByteView properties = cursor.take(5);
  options.properties.assign(properties.begin(), properties.end());
  if ((flags & lzma_end_mark_bit) != 0) options.unpacked_size.reset();
}

class DataContent final : public Content {
 public:
  DataContent(EntryData data, ContainerPtr container)
      : data_(std::move(data)), container_(std::move(container)) {}
  StreamPtr stream() const override { return data_.open(); }
  SourcePtr source() const override { return data_.direct() ? data_.stored : nullptr; }

 private:
  EntryData data_;
  ContainerPtr container_;  // its source and context are in use
};

}  // namespace

bool EntryData::direct() const {
  return !encrypted && complete && codec->name == "stored" && expected.size == stored->size();
}

StreamPtr EntryData::open_packed() const {
  StreamPtr packed = make_source_stream(stored);
  if (!encrypted) return packed;
  return aes ? open_zip_aes({aes->strength}, std::move(packed), stored_size, password)
             : open_zip_traditional(std::move(packed), password);
}

StreamPtr EntryData::open() const {
  CodecOptions options;
  if (method == kMethodImplode) options.properties = {static_cast<Byte>(flags)};
  if (!encrypted && method != kMethodLzma && complete && expected.size) {
    return make_checked(open_sized_decoder(*codec, stored, *expected.size, options), expected);
  }
  StreamPtr packed = open_packed();
  options.unpacked_size = expected.size;
  if (method == kMethodLzma) read_lzma_header(*packed, flags, options);
  return make_checked(codec->open(std::move(packed), options), expected);
}

ContentPtr make_entry_content(EntryData data, ContainerPtr container) {
  return std::make_shared<DataContent>(std::move(data), std::move(container));
}

}  // namespace operculum::zip
