#pragma once

#include <optional>
#include <vector>

#include "format/firmware/uefi_names.h"
#include "io/source.h"

namespace operculum::uefi {

/// A variable as its store keeps it.
struct Variable {
  std::string name;
  Guid vendor{};
  std::uint32_t attributes = 0;
  std::uint64_t at = 0, size = 0;  ///< of its data, in bytes
  bool deleted = false;
};

/// The variables of a store (the reference implementation's "variable store", with and without
/// authentication) that begins at `at`; nothing when none does. What breaks off is told to `trouble`.
std::optional<std::vector<Variable>> read_variables(const Source& bytes, std::uint64_t at,
                                                    std::string& trouble);

/// Attributes in words (UEFI specification 2.10, section 8.2).
std::string attributes_text(std::uint32_t attributes);

/// What a variable holds, as a line that a person reads: numbers, texts, boot options, else hexadecimal
/// digits.
std::string value_text(const Variable& variable, ByteView data);

}  // namespace operculum::uefi
