// Studies any bytes: whatever is in them, the search ends, and its drafts compile.
#include "layout/compile.h"
#include "study/study.h"

using namespace operculum;

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  OpenContext context;
  context.limits.max_entries = 20'000;
  context.spool.set_disk(1 << 20);
  study::Subject subject{make_memory_source(Bytes(data, data + size)), "fuzz.bin"};
  study::Findings findings = study::study(subject, 16, context);
  for (const study::Drafted& drafted : findings.drafts) {
    if (!layout::compile({"draft.layout", drafted.text}, {}, true).plan) __builtin_trap();
  }
  return 0;
}
