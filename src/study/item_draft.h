#pragma once

#include "study/draft_text.h"
#include "study/hypothesis.h"

namespace operculum::study {

/// Adds the record of one entry in the index, field by field, with the evidence as comments; `big` is the
/// order of bytes that the draft says.
void draft_item(DraftText& text, const Hypothesis& found, const Subject& subject, bool big);

}  // namespace operculum::study
