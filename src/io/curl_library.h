#pragma once

#include <curl/curl.h>

namespace operculum {

/// The functions of libcurl that we use. It is loaded when the first URL is named, for it brings forty other
/// libraries along, which would take most of the time that the program needs to start.
struct CurlLibrary {
  decltype(&curl_global_init) global_init = nullptr;
  decltype(&curl_easy_init) easy_init = nullptr;
  decltype(&curl_easy_setopt) easy_setopt = nullptr;
  decltype(&curl_easy_perform) easy_perform = nullptr;
  decltype(&curl_easy_cleanup) easy_cleanup = nullptr;
  decltype(&curl_easy_strerror) easy_strerror = nullptr;
  decltype(&curl_slist_append) slist_append = nullptr;
  decltype(&curl_slist_free_all) slist_free_all = nullptr;
};

/// Loads it on the first call. Throws Error of kind io where it is not there. Safe to call from several
/// threads.
const CurlLibrary& curl_library();

}  // namespace operculum
