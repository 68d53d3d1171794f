#pragma once

#include "study/study.h"

namespace operculum::study {

/// How many of these files of one kind a draft opens whole. One as long as `size`, in bytes, tells nothing: a
/// draft that counts on lengths which are the same in all would open it, too.
std::size_t fitting(const std::string& draft, const std::vector<NamedFile>& kin, std::uint64_t size,
                    OpenContext& context);

/// What is believed of one of the files of the kind and opens this one whole, too, where it tells too little
/// by itself; nothing where there is none.
std::optional<Drafted> learned_from_kin(const Material& material, OpenContext& context);

}  // namespace operculum::study
