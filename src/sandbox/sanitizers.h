#pragma once

namespace operculum {

/// Whether this build looks for its own mistakes: at its end its runtime looks for leaks, from a process of
/// its own that traces this one. So such a build keeps some rights that what is released gives up.
#if defined(__SANITIZE_ADDRESS__) || defined(__SANITIZE_THREAD__)
constexpr bool kSanitizers = true;
#elif defined(__has_feature)
#if __has_feature(address_sanitizer) || __has_feature(thread_sanitizer)
constexpr bool kSanitizers = true;
#else
constexpr bool kSanitizers = false;
#endif
#else
constexpr bool kSanitizers = false;
#endif

}  // namespace operculum
