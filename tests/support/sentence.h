#pragma once

#include <string>

#include "base/error.h"

namespace operculum::test {

/// What some work is refused with; empty where it is not.
template <typename Work>
std::string sentence(Work work) {
  try {
    work();
  } catch (const Error& error) {
    return error.what();
  }
  return "";
}

}  // namespace operculum::test
