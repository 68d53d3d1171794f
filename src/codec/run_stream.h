#pragma once

#include <algorithm>

#include "base/error.h"
#include "io/input_buffer.h"
#include "io/stream.h"

namespace operculum {

/// What decodes to runs of equal bytes and to bytes that are copied from the input.
class RunStream : public Stream {
 public:
  std::size_t read(ByteSpan out) final {
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

 protected:
  explicit RunStream(StreamPtr packed) : input_(std::move(packed)) {}

  /// Takes the next code, of which there is a byte at least, and says what it stands for; false where it ends
  /// the data.
  virtual bool begin() = 0;
  Byte next() {
    ByteView view = input_.view();
    if (view.empty()) cut();
    Byte b = view[0];
    input_.consume(1);
    return b;
  }
  void copy(std::size_t count) { literals_ = count; }
  void repeat(std::size_t count, Byte byte) {
    repeats_ = count;
    byte_ = byte;
  }

 private:
  [[noreturn]] static void cut() {
    throw CutShort("run-length data: the data ends within a run; it is cut short");
  }

  InputBuffer input_;
  std::size_t repeats_ = 0, literals_ = 0;
  Byte byte_ = 0;
};

}  // namespace operculum
