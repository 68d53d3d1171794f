#include "codec/run_length.h"

#include <algorithm>

#include "base/error.h"
#include "io/input_buffer.h"

namespace operculum {
namespace {

class RunLengthStream final : public Stream {
 public:
  RunLengthStream(StreamPtr packed, RunLength form, Byte marker)
      : input_(std::move(packed)), form_(form), marker_(marker) {}

  std::size_t read(ByteSpan out) override {
    std::size_t done = 0;
    while (done < out.size()) {
      if (repeats_ > 0) {
        std::size_t count = std::min(repeats_, out.size() - done);
        std::fill_n(out.begin() + static_cast<std::ptrdiff_t>(done), count, byte_);
        repeats_ -= count;
        done += count;
      } else if (literals_ > 0) {
        std::size_t count = input_.read(out.subspan(done, std::min(literals_, out.size() - done)));
        if (count == 0) cut();
        literals_ -= count;
        done += count;
      } else if (input_.view().empty() || !begin()) {
        break;
      }
    }
    return done;
  }

 private:
  [[noreturn]] static void cut() {
    throw CutShort("run-length data: the data ends within a run; it is cut short");
  }
  Byte next() {
    ByteView view = input_.view();
    if (view.empty()) cut();
    Byte b = view[0];
    input_.consume(1);
    return b;
  }
  void repeat(std::size_t count) {
    repeats_ = count;
    byte_ = next();
  }

  bool begin() {
    Byte first = next();
    switch (form_) {
      case RunLength::packbits:
        if (first < 128) {
          literals_ = first + std::size_t{1};
        } else if (first > 128) {
          repeat(std::size_t{257} - first);
        }
        return true;
      case RunLength::pairs:
        repeat(first);
        return true;
      case RunLength::marked:
        if (first != marker_) {
          byte_ = first;
          repeats_ = 1;
        } else if (Byte count = next(); count == 0) {
          byte_ = marker_;
          repeats_ = 1;
        } else {
          repeat(count);
        }
        return true;
      case RunLength::high_bit:
        if (first >= 128) {
          repeat((first & 127u) + std::size_t{1});
        } else {
          literals_ = first + std::size_t{1};
        }
        return true;
      case RunLength::top_bits:
        if (first >= 0xc0) {
          repeat(first & 0x3fu);
        } else {
          byte_ = first;
          repeats_ = 1;
        }
        return true;
    }
    return false;
  }

  InputBuffer input_;
  RunLength form_;
  Byte marker_;
  std::size_t repeats_ = 0, literals_ = 0;
  Byte byte_ = 0;
};

}  // namespace

StreamPtr open_run_length(StreamPtr packed, RunLength form, Byte marker) {
  return std::make_unique<RunLengthStream>(std::move(packed), form, marker);
}

}  // namespace operculum
