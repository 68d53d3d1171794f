#pragma once

#include <string>
#include <vector>

#include "base/bytes.h"

namespace operculum::test {

/// A resource to be: type and name are numbers where the texts are empty.
struct PeResource {
  unsigned type = 10;
  std::string type_name = {};
  unsigned number = 1;
  std::string name = {};
  unsigned language = 0x409;
  Bytes data = {};
};

struct PeOptions {
  bool wide = true;      ///< PE32+
  Bytes code = {};       ///< of the section .text
  Bytes overlay = {};    ///< behind the image
  Bytes signature = {};  ///< a certificate behind the overlay
};

/// A program that does nothing, with resources.
Bytes make_pe(const std::vector<PeResource>& resources, const PeOptions& options = {});

/// Version information with a fixed part and these strings.
Bytes make_version(const std::vector<std::pair<std::string, std::string>>& strings);

}  // namespace operculum::test
