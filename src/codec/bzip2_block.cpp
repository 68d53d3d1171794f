#include "codec/bzip2_block.h"

#include <algorithm>
#include <new>
#include <semaphore>
#include <system_error>
#include <thread>

namespace operculum {
namespace {

constexpr std::size_t kFirst = 1 << 20;  // a block holds 900,000 bytes before runs are made long again
constexpr unsigned kMarkBits = 48, kSumBits = 32;

/// Up to 32 bits that begin at bit `from` of the run.
std::uint32_t bits_at(const BitRun& run, std::size_t from, unsigned count) {
  std::uint32_t value = 0;
  for (std::size_t bit = run.begin + from, end = std::min(bit + count, run.end); bit < end; ++bit)
    value = (value << 1) | ((run.bytes[bit / 8] >> (7 - bit % 8)) & 1u);
  return value;
}

/// The block behind a stream's header, without an end: what is cut must not be taken for whole by chance.
Bytes as_stream(const BitRun& run, char level) {
  std::size_t whole = (run.end - run.begin) / 8, shift = run.begin % 8;
  Bytes out = {'B', 'Z', 'h', static_cast<Byte>(level)};
  out.resize(out.size() + whole);
  const Byte* from = run.bytes.data() + run.begin / 8;
  Byte* to = out.data() + out.size() - whole;
  if (shift == 0) std::copy_n(from, whole, to);
  for (std::size_t i = 0; i < whole && shift != 0; ++i)
    to[i] = static_cast<Byte>((from[i] << shift) | (from[i + 1] >> (8 - shift)));
  auto rest = static_cast<unsigned>((run.end - run.begin) % 8);
  if (rest > 0) out.push_back(static_cast<Byte>(bits_at(run, whole * 8, rest) << (8 - rest)));
  return out;
}

/// As many blocks are decoded at a time as there are processors: each jumps about in 4 MiB, and more would
/// only push each other out of the caches.
class Turn {
 public:
  Turn() { turns().acquire(); }
  ~Turn() { turns().release(); }
  Turn(const Turn&) = delete;
  Turn& operator=(const Turn&) = delete;

 private:
  static std::counting_semaphore<>& turns() {
    static std::counting_semaphore<> all(std::max(1u, std::thread::hardware_concurrency()));
    return all;
  }
};

}  // namespace

BitRun joined(const BitRun& first, const BitRun& next) {
  std::size_t whole = first.end / 8;
  Bytes bytes(first.bytes.begin(), first.bytes.begin() + static_cast<std::ptrdiff_t>(whole));
  bytes.insert(bytes.end(), next.bytes.begin(), next.bytes.end());
  return {std::move(bytes), first.begin, whole * 8 + next.end};
}

Bzip2Block::Bzip2Block(BitRun bits, char level, std::uint64_t packed_at)
    : bits_(std::move(bits)),
      packed_at_(packed_at),
      checksum_(bits_at(bits_, kMarkBits, kSumBits)),
      stream_(as_stream(bits_, level)) {
  if (BZ2_bzDecompressInit(&library_, 0, 0) != BZ_OK) throw std::bad_alloc();
  library_.next_in = reinterpret_cast<char*>(stream_.data());
  library_.avail_in = static_cast<unsigned>(stream_.size());
}

Bzip2Block::~Bzip2Block() {
  if (ahead_.valid()) ahead_.wait();
  BZ2_bzDecompressEnd(&library_);
}

void Bzip2Block::start() {
  try {
    ahead_ = std::async(std::launch::async, [this] {
      Turn turn;
      decode_first();
    });
  } catch (const std::system_error&) {
    return;  // no thread to be had: decoded when it is read
  }
}

void Bzip2Block::decode_first() {
  first_.resize(kFirst);
  std::size_t count = 0;
  while (count < first_.size() && state_ == State::decoding) count += decode(ByteSpan(first_).subspan(count));
  first_.resize(count);
}

std::size_t Bzip2Block::read(ByteSpan out) {
  if (ahead_.valid()) ahead_.get();
  if (first_read_ < first_.size()) {
    std::size_t count = std::min(out.size(), first_.size() - first_read_);
    std::copy_n(first_.begin() + static_cast<std::ptrdiff_t>(first_read_), count, out.begin());
    first_read_ += count;
    return count;
  }
  std::size_t count = 0;
  while (count == 0 && state_ == State::decoding) count = decode(out);
  return count;
}

std::size_t Bzip2Block::decode(ByteSpan out) {
  library_.next_out = reinterpret_cast<char*>(out.data());
  library_.avail_out = static_cast<unsigned>(std::min<std::size_t>(out.size(), 1u << 30));
  unsigned room = library_.avail_out;
  int result = BZ2_bzDecompress(&library_);
  if (result == BZ_MEM_ERROR) throw std::bad_alloc();
  std::size_t count = room - library_.avail_out;
  // The library hands nothing out before it has the whole block, and compares the block's checksum behind it.
  bool wants_more = result == BZ_OK && library_.avail_in == 0 && library_.avail_out > 0;
  if (result != BZ_OK) {
    state_ = State::damaged;
  } else if (wants_more) {
    state_ = count > 0 || library_.total_out_lo32 > 0 ? State::ended : State::damaged;
  }
  return count;
}

}  // namespace operculum
