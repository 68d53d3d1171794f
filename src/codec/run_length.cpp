#include "codec/run_length.h"

#include "codec/run_stream.h"

namespace operculum {
namespace {

class RunLengthStream final : public RunStream {
 public:
  RunLengthStream(StreamPtr packed, RunLength form, Byte marker)
      : RunStream(std::move(packed)), form_(form), marker_(marker) {}

 private:
  bool begin() override {
    Byte first = next();
    switch (form_) {
      case RunLength::packbits:
        if (first < 128) {
          copy(first + std::size_t{1});
        } else if (first > 128) {
          repeat(std::size_t{257} - first, next());
        }
        return true;
      case RunLength::pairs:
        repeat(first, next());
        return true;
      case RunLength::marked:
        if (first != marker_) {
          repeat(1, first);
        } else if (Byte count = next(); count == 0) {
          repeat(1, marker_);
        } else {
          repeat(count, next());
        }
        return true;
      case RunLength::high_bit:
        if (first >= 128) {
          repeat((first & 127u) + std::size_t{1}, next());
        } else {
          copy(first + std::size_t{1});
        }
        return true;
      case RunLength::top_bits:
        if (first >= 0xc0) {
          repeat(first & 0x3fu, next());
        } else {
          repeat(1, first);
        }
        return true;
    }
    return false;
  }

  RunLength form_;
  Byte marker_;
};

}  // namespace

StreamPtr open_run_length(StreamPtr packed, RunLength form, Byte marker) {
  return std::make_unique<RunLengthStream>(std::move(packed), form, marker);
}

}  // namespace operculum
