#pragma once

#include "container/format.h"
#include "layout/coverage.h"
#include "layout/described_container.h"
#include "study/subject.h"

namespace operculum::study {

/// What becomes of a draft when the program uses it.
struct Trial {
  std::string failure;                              ///< why it cannot be opened; empty: it can
  std::uint64_t entries = 0, read = 0, failed = 0;  ///< of all, how many were read, and in vain
  std::vector<layout::CoverRange> ranges;           ///< what each byte of the file is for
  double explained = 0;                             ///< the share of the file that is
};

/// The subject as a draft describes it; null when the draft does not compile, and then `problem` tells why.
/// Throws what the description runs into.
std::shared_ptr<layout::DescribedContainer> open_draft(const std::string& draft, const Subject& subject,
                                                       OpenContext& context, layout::Tracer* tracer,
                                                       std::string& problem);

/// Compiles the draft, opens the file with it, and reads entries until `most_bytes` were read.
Trial try_draft(const std::string& draft, const Subject& subject, OpenContext& context,
                std::uint64_t most_bytes);

}  // namespace operculum::study
