#pragma once

#include <string>
#include <vector>

#include "base/bytes.h"

namespace operculum::test {

struct CabFile {
  std::string name;  ///< as stored, with backslashes
  Bytes data;
  unsigned flags = 0x20;
};

enum class CabMethod { stored = 0, mszip = 1, quantum = 2, lzx = 3 };

struct CabFolder {
  std::vector<CabFile> files;
  CabMethod method = CabMethod::mszip;
  unsigned window_bits = 16;  ///< LZX and Quantum
  bool plain_blocks = true;   ///< LZX: every third block is not packed
};

struct CabOptions {
  bool sums = true;
  std::size_t header_reserve = 0, folder_reserve = 0, data_reserve = 0;
};

Bytes make_cab(const std::vector<CabFolder>& folders, const CabOptions& options = {});

/// The same over several cabinets "tide1.cab", "tide2.cab", ... with at most `most` bytes of data in each:
/// folders, files and even blocks run from one into the next.
std::vector<Bytes> make_cab_set(const std::vector<CabFolder>& folders, std::size_t most);

}  // namespace operculum::test
