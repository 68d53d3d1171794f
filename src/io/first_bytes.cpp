#include "io/first_bytes.h"

#include <algorithm>

namespace operculum {
namespace {

class FirstBytes final : public Stream {
 public:
  FirstBytes(StreamPtr inner, std::uint64_t size) : inner_(std::move(inner)), left_(size) {}
  std::size_t read(ByteSpan out) override {
    if (left_ == 0) return 0;
    std::size_t count =
        inner_->read(out.first(static_cast<std::size_t>(std::min<std::uint64_t>(out.size(), left_))));
    left_ -= count;
    return count;
  }

 private:
  StreamPtr inner_;
  std::uint64_t left_;
};

}  // namespace

StreamPtr make_first_bytes(StreamPtr inner, std::uint64_t size) {
  return std::make_unique<FirstBytes>(std::move(inner), size);
}

}  // namespace operculum
