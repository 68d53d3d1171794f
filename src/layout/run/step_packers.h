#pragma once

#include "codec/pack_settings.h"
#include "layout/run/step.h"

namespace operculum::layout {

/// Undoes a step: what its codec or cipher makes `plain` of. Throws Unsupported where there is no way back.
StreamPtr pack_step(const Step& step, StreamPtr plain, const PackSettings& settings);

/// Undoes steps, the last one first.
StreamPtr pack_steps(const std::vector<Step>& steps, StreamPtr plain, const PackSettings& settings);

/// The name of the step's codec in the table of codecs; empty for what is no codec of the table.
std::string_view codec_of(const StepKind& kind);

/// Names of the steps that have a way back.
std::vector<std::string_view> packable_steps();

}  // namespace operculum::layout
