#pragma once

#include <string>

#include "base/bytes.h"

namespace operculum::test {

/// An encrypted disk image as it is commonly documented, written without the program's own code.
struct Sealing {
  std::string passphrase = "brackish";
  std::size_t key_size = 16;
  std::size_t block = 512;
  unsigned version = 2, key_type = 1;
};

/// The head of an encrypted image, with room for its key.
Bytes sealed_head(const Sealing& how, std::size_t data_size, std::size_t data_at);

/// Encrypts data in place, filled up to whole blocks.
void seal(const Sealing& how, Bytes& data);

Bytes sealed(const Sealing& how, Bytes data);

}  // namespace operculum::test
