// LZMA (raw and with the header of the .lzma form) and xz, by liblzma.
#include <lzma.h>

#include <algorithm>
#include <array>
#include <new>

#include "base/cursor.h"
#include "base/error.h"
#include "base/numbers.h"
#include "codec/pack_stream.h"
#include "codec/packers.h"

namespace operculum {
namespace {

constexpr std::uint32_t kUsualLevel = 6;  // xz's own default
constexpr std::size_t kAloneHeader = 13;  // 5 property bytes, then the unpacked size
constexpr std::size_t kPropertiesSize = 5, kDictionaryAt = 1;

/// The dictionary that the packed data is to state, in bytes: what the original states, unless decoders would
/// refuse that.
std::uint32_t stated_dictionary(const PackSettings& settings, std::uint32_t of_level) {
  constexpr std::uint32_t kMostStated = 512 << 20;
  std::uint32_t stated = of_level;
  if (settings.properties.size() == kPropertiesSize)
    stated = load_little<std::uint32_t>(settings.properties.data() + kDictionaryAt);
  if (settings.dictionary_size) stated = *settings.dictionary_size;
  return stated > kMostStated ? kLargestDictionary : stated;
}

lzma_options_lzma options_of(const PackSettings& settings) {
  auto preset = static_cast<std::uint32_t>(settings.level.value_or(kUsualLevel));
  lzma_options_lzma options;
  if (lzma_lzma_preset(&options, preset | (settings.extreme ? LZMA_PRESET_EXTREME : 0)))
    throw Unsupported("packing with this level of LZMA");
  if (settings.properties.size() == kPropertiesSize) {  // LZMA specification: (pb * 5 + lp) * 9 + lc
    Byte first = settings.properties[0];
    options.lc = first % 9;
    options.lp = first / 9 % 5;
    options.pb = first / 45;
  }
  options.dict_size = std::min(stated_dictionary(settings, options.dict_size), kLargestDictionary);
  return options;
}

class LzmaPackStream : public PackStream {
 public:
  explicit LzmaPackStream(StreamPtr plain) : PackStream(std::move(plain)) {}
  ~LzmaPackStream() override { lzma_end(&state_); }

 protected:
  static void check(lzma_ret result) {
    if (result == LZMA_OK || result == LZMA_STREAM_END || result == LZMA_BUF_ERROR) return;
    if (result == LZMA_OPTIONS_ERROR) throw Unsupported("packing with these settings of LZMA");
    throw std::bad_alloc();
  }

  Step pack(ByteView in, bool last, ByteSpan out) override {
    state_.next_in = in.data();
    state_.avail_in = in.size();
    state_.next_out = out.data();
    state_.avail_out = out.size();
    lzma_ret result = lzma_code(&state_, last ? LZMA_FINISH : LZMA_RUN);
    check(result);
    return {in.size() - state_.avail_in, out.size() - state_.avail_out, result == LZMA_STREAM_END};
  }

  lzma_stream state_ = LZMA_STREAM_INIT;
};

/// The 13 bytes of header are made by the library; a stated size is put in, and the end mark left out then.
class AloneStream final : public LzmaPackStream {
 public:
  /// `raw`: properties alone in front of the data.
  AloneStream(StreamPtr plain, const PackSettings& settings, bool raw) : LzmaPackStream(std::move(plain)) {
    lzma_options_lzma options = options_of(settings);
    lzma_filter filters[] = {{LZMA_FILTER_LZMA1EXT, &options}, {LZMA_VLI_UNKNOWN, nullptr}};
    bool sized = settings.plain_size && settings.states_size && !raw;
    bool marked = settings.end_mark.value_or(!sized) || !settings.plain_size;
    options.ext_flags = marked ? LZMA_LZMA1EXT_ALLOW_EOPM : 0;
    set_ext_size(options, marked ? UINT64_MAX : *settings.plain_size);
    check(lzma_raw_encoder(&state_, filters));
    std::uint32_t size = 0;
    check(lzma_properties_size(&size, &filters[0]));
    header_.resize(size);
    check(lzma_properties_encode(&filters[0], header_.data()));
    store_number(header_.data() + kDictionaryAt, 4, stated_dictionary(settings, options.dict_size));
    if (raw) return;
    std::uint64_t stated_size = sized ? *settings.plain_size : UINT64_MAX;
    for (std::size_t i = kPropertiesSize; i < kAloneHeader; ++i)
      header_.push_back(static_cast<Byte>(stated_size >> (8 * (i - kPropertiesSize))));
  }

 private:
  static void set_ext_size(lzma_options_lzma& options, std::uint64_t size) {
    options.ext_size_low = static_cast<std::uint32_t>(size);
    options.ext_size_high = static_cast<std::uint32_t>(size >> 32);
  }

  Step pack(ByteView in, bool last, ByteSpan out) override {
    if (header_at_ < header_.size()) {
      std::size_t count = std::min(out.size(), header_.size() - header_at_);
      std::copy_n(header_.begin() + static_cast<std::ptrdiff_t>(header_at_), count, out.begin());
      header_at_ += count;
      return {0, count, false};
    }
    return LzmaPackStream::pack(in, last, out);
  }

  Bytes header_;
  std::size_t header_at_ = 0;
};

class XzPackStream final : public LzmaPackStream {
 public:
  XzPackStream(StreamPtr plain, const PackSettings& settings) : LzmaPackStream(std::move(plain)) {
    options_ = options_of(settings);
    std::size_t count = 0;
    for (std::uint64_t id : settings.filters) {
      if (count == LZMA_FILTERS_MAX - 1) throw Unsupported("packing with so many xz filters");
      filters_[count++] = {id, nullptr};
    }
    filters_[count++] = {LZMA_FILTER_LZMA2, &options_};
    filters_[count] = {LZMA_VLI_UNKNOWN, nullptr};
    auto sum = settings.check < 0 ? LZMA_CHECK_CRC64 : static_cast<lzma_check>(settings.check);
    if (settings.block_size == 0 && settings.threads == 0) {
      check(lzma_stream_encoder(&state_, filters_.data(), sum));
      return;
    }
    lzma_mt blocks{};
    blocks.threads = std::max(settings.threads, 1u);
    blocks.block_size = settings.block_size;
    blocks.filters = filters_.data();
    blocks.check = sum;
    check(lzma_stream_encoder_mt(&state_, &blocks));
  }

 private:
  lzma_options_lzma options_{};
  std::array<lzma_filter, LZMA_FILTERS_MAX + 1> filters_{};
};

}  // namespace

StreamPtr pack_lzma(StreamPtr plain, const PackSettings& settings) {
  return std::make_unique<AloneStream>(std::move(plain), settings, true);
}
StreamPtr pack_lzma_alone(StreamPtr plain, const PackSettings& settings) {
  return std::make_unique<AloneStream>(std::move(plain), settings, false);
}
StreamPtr pack_xz(StreamPtr plain, const PackSettings& settings) {
  return std::make_unique<XzPackStream>(std::move(plain), settings);
}

}  // namespace operculum
