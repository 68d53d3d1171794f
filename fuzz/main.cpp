// libFuzzer's entry: FUZZ_TARGET names the target; without it the names of all are printed.
#include <cstdio>
#include <cstdlib>

#include "fuzz/mutate.h"
#include "fuzz/target.h"

namespace {

using operculum::fuzz::Target;

const Target* chosen = nullptr;

}  // namespace

extern "C" int LLVMFuzzerInitialize(int*, char***) {
  static const std::vector<Target> all = operculum::fuzz::targets();
  const char* name = std::getenv("FUZZ_TARGET");
  for (const Target& target : all) {
    if (name == nullptr) std::printf("%s\n", target.name.c_str());
    if (name != nullptr && target.name == name) chosen = &target;
  }
  if (chosen == nullptr) {
    if (name != nullptr) std::fprintf(stderr, "FUZZ_TARGET: there is no %s\n", name);
    std::exit(name == nullptr ? 0 : 2);
  }
  return 0;
}

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  chosen->look({reinterpret_cast<const operculum::Byte*>(data), size});
  return 0;
}

extern "C" std::size_t LLVMFuzzerMutate(std::uint8_t* data, std::size_t size, std::size_t most);

/// Changes an input, then, half of the time, puts right what a parser compares first: else no change gets
/// past it.
extern "C" std::size_t LLVMFuzzerCustomMutator(std::uint8_t* data, std::size_t size, std::size_t most,
                                               unsigned seed) {
  std::size_t changed = LLVMFuzzerMutate(data, size, most);
  if (seed % 2 == 0)
    operculum::fuzz::set_checksums(chosen->name, {reinterpret_cast<operculum::Byte*>(data), changed});
  return changed;
}
