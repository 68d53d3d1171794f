#pragma once

#include <functional>
#include <optional>

#include "io/spool.h"

namespace operculum::uefi {

/// A section of a file (PI specification, volume 3, section 3.2.5).
struct Section {
  enum Type : std::uint8_t {
    packed = 0x01,
    guided = 0x02,
    disposable = 0x03,
    pe32 = 0x10,
    te = 0x12,
    dxe_depex = 0x13,
    version = 0x14,
    user_interface = 0x15,
    volume = 0x17,
    free_form = 0x18,
    raw = 0x19,
    pei_depex = 0x1B,
    mm_depex = 0x1C,
  };
  std::uint64_t at = 0, data = 0, end = 0;  ///< its header, what is in it, and its end, in bytes
  std::uint8_t type = 0;
};

/// The section that begins at `at` and must end by `end`; nothing when it does not.
std::optional<Section> read_section(const Source& bytes, std::uint64_t at, std::uint64_t end);

/// What is within a packed or guided section.
struct Unwrapped {
  SourcePtr bytes;                     ///< null where it cannot be told; see `fault`
  std::uint64_t at = 0;                ///< where the inner sections begin, when they are not packed
  bool packed = false;                 ///< `bytes` came out of it, and is all of them
  std::string name;                    ///< how it was packed or signed
  std::string_view method = "stored";  ///< of entries
  std::string fault;                   ///< a checksum that does not fit, damage, or what is not known
};
Unwrapped unwrap(const SourcePtr& bytes, const Section& section, SpoolBudget& spool);

/// Bytes packed by the standard compression (UEFI specification 2.10, section 19), in either of its forms:
/// what came out must be what `fits` expects. Throws Malformed.
SourcePtr unpack_standard(const SourcePtr& bytes, std::uint64_t at, std::uint64_t size, SpoolBudget& spool,
                          const std::function<bool(const Source& plain)>& fits);

}  // namespace operculum::uefi
