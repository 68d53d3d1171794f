#include "support/failing_memory.h"

#include <atomic>
#include <cstdlib>
#include <new>

namespace {

std::atomic<bool> armed{false};
std::atomic<std::int64_t> left{0};

std::atomic<bool> metered{false};
std::atomic<std::uint64_t> allocations_made{0}, bytes_taken{0};

bool fails(std::size_t size) {
  if (metered.load(std::memory_order_relaxed)) {
    ++allocations_made;
    bytes_taken += size;
  }
  return armed.load(std::memory_order_relaxed) && --left == 0;
}

}  // namespace

void* operator new(std::size_t size) {
  void* memory = fails(size) ? nullptr : std::malloc(size == 0 ? 1 : size);
  if (memory == nullptr) throw std::bad_alloc();
  return memory;
}
void* operator new(std::size_t size, const std::nothrow_t&) noexcept {
  return fails(size) ? nullptr : std::malloc(size == 0 ? 1 : size);
}
void operator delete(void* memory) noexcept {
  std::free(memory);
}
void operator delete(void* memory, std::size_t) noexcept {
  std::free(memory);
}
void operator delete(void* memory, const std::nothrow_t&) noexcept {
  std::free(memory);
}

namespace operculum::test {

FailingMemory::FailingMemory(std::int64_t nth) {
  left = nth;
  armed = true;
}

FailingMemory::~FailingMemory() {
  armed = false;
}

bool FailingMemory::reached() const {
  return left <= 0;
}

MemoryMeter::MemoryMeter() {
  allocations_made = bytes_taken = 0;
  metered = true;
}

MemoryMeter::~MemoryMeter() {
  metered = false;
}

std::uint64_t MemoryMeter::allocations() const {
  return allocations_made;
}

std::uint64_t MemoryMeter::bytes() const {
  return bytes_taken;
}

}  // namespace operculum::test
