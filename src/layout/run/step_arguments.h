#pragma once

#include <memory>

#include "cipher/block_ciphers.h"
#include "cipher/byte_ciphers.h"
#include "cipher/xts.h"
#include "codec/lzss.h"
#include "codec/lzw.h"
#include "codec/nrv.h"
#include "codec/run_length.h"
#include "codec/run_ranges.h"
#include "layout/run/step.h"

namespace operculum::layout {

// What the arguments of steps mean, for both directions. Throw Malformed where they contradict the step, and
// NeedsKey where a key does not fit.

/// Which of some words a text argument is; `what` names the parameter in messages.
std::size_t choice_of(const StepArgument& given, std::initializer_list<std::string_view> words,
                      std::string_view what);

LzssDialect lzss_dialect(const StepArguments& given);
LzwDialect lzw_dialect(const StepArguments& given);
RunLength run_length_form(const StepArguments& given);
std::optional<RunRules> run_rules(const StepArguments& given);  ///< of the form "ranges"
Byte implode_flags(const StepArguments& given);                 ///< as in a ZIP header
NrvDialect nrv_dialect(const StepArguments& given);
Mix congruential_mix(const StepArguments& given);
Congruential congruential_of(const StepArguments& given);
BlockMode block_mode(const StepArgument& given);
XtsUnits xts_units(const StepArguments& given);
std::unique_ptr<BlockCipher> aes_of(const StepArguments& given);
std::unique_ptr<BlockCipher> des_of(const StepArguments& given);
std::unique_ptr<BlockCipher> blowfish_of(const StepArguments& given);
std::unique_ptr<BlockCipher> tea_of(const StepArguments& given);
std::unique_ptr<BlockCipher> xtea_of(const StepArguments& given);

}  // namespace operculum::layout
