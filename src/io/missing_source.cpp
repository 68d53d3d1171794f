#include "io/missing_source.h"

#include "base/error.h"

namespace operculum {
namespace {

class MissingSource final : public Source {
 public:
  MissingSource(std::uint64_t size, std::string sentence) : size_(size), sentence_(std::move(sentence)) {}
  std::uint64_t size() const override { return size_; }
  std::size_t read_at(std::uint64_t, ByteSpan) const override { throw Malformed(sentence_); }

 private:
  std::uint64_t size_;
  std::string sentence_;
};

}  // namespace

SourcePtr make_missing(std::uint64_t size, std::string sentence) {
  return std::make_shared<MissingSource>(size, std::move(sentence));
}

}  // namespace operculum
