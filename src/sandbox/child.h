#pragma once

namespace operculum {

/// Starts a program of the PATH with these words, the last of which is null, and waits for its end. 0 when it
/// ended well, else 1.
int run_to_end(const char* const* words);

}  // namespace operculum
