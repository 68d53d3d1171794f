#include "io/curl_library.h"

#include <dlfcn.h>
#include <fmt/format.h>

#include "base/error.h"

namespace operculum {
namespace {

constexpr const char* kName = "libcurl.so.4";  // the library's binary interface since 2006

template <typename Function>
void find(void* library, const char* name, Function& function) {
  function = reinterpret_cast<Function>(dlsym(library, name));
  if (function == nullptr) throw Error(ErrorKind::io, fmt::format("{} has no {}", kName, name));
}

CurlLibrary load() {
  void* library = dlopen(kName, RTLD_NOW | RTLD_LOCAL);
  if (library == nullptr)
    throw Error(ErrorKind::io, fmt::format("{}, which reads from servers, is not installed", kName));
  CurlLibrary out;
  find(library, "curl_global_init", out.global_init);
  find(library, "curl_easy_init", out.easy_init);
  find(library, "curl_easy_setopt", out.easy_setopt);
  find(library, "curl_easy_perform", out.easy_perform);
  find(library, "curl_easy_cleanup", out.easy_cleanup);
  find(library, "curl_easy_strerror", out.easy_strerror);
  find(library, "curl_slist_append", out.slist_append);
  find(library, "curl_slist_free_all", out.slist_free_all);
  if (out.global_init(CURL_GLOBAL_DEFAULT) != CURLE_OK)
    throw Error(ErrorKind::io, fmt::format("{} cannot be used", kName));
  return out;
}

}  // namespace

const CurlLibrary& curl_library() {
  static const CurlLibrary kLibrary = load();
  return kLibrary;
}

}  // namespace operculum
