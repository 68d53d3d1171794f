#pragma once

#include <atomic>

#include "io/source.h"

namespace operculum::test {

/// Counts what is read from it.
class CountingSource final : public Source {
 public:
  explicit CountingSource(Bytes all) : inner_(make_memory_source(std::move(all))) {}
  std::uint64_t size() const override { return inner_->size(); }
  std::size_t read_at(std::uint64_t offset, ByteSpan out) const override {
    std::size_t count = inner_->read_at(offset, out);
    ++reads;
    asked += out.size();
    given += count;
    return count;
  }
  mutable std::atomic<std::uint64_t> reads{0}, asked{0}, given{0};  ///< calls; bytes; bytes

 private:
  SourcePtr inner_;
};

}  // namespace operculum::test
