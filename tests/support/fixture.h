#pragma once

#include <string>

namespace operculum::test {

/// The path of a file in tests/fixtures/installer; make_installer.c there says how they were made.
inline std::string fixture(const std::string& name) {
  return std::string(OPERCULUM_SOURCE) + "/tests/fixtures/installer/" + name;
}

}  // namespace operculum::test
