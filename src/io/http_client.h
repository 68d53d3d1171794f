#pragma once

#include <functional>
#include <memory>
#include <optional>
#include <string>

#include "base/bytes.h"

namespace operculum {

/// How a server is talked to.
struct HttpOptions {
  unsigned stall_seconds = 30;  ///< a server that sends nothing for so long is asked again
  unsigned tries = 5;           ///< of each request, with growing pauses between them
  /// "user:password" for a server that wants one; `works` asks it with them. Nothing when there is none. What
  /// ~/.netrc says is used before.
  std::function<std::optional<std::string>(const std::string& host,
                                           const std::function<bool(const std::string&)>& works)>
      credentials = {};
  std::function<bool()> stopped = [] { return false; };  ///< true ends a transfer
};

/// What a server says of a file before it sends it.
struct HttpHead {
  bool ranges = false;                ///< it sends parts
  std::optional<std::uint64_t> size;  ///< of the whole file, in bytes
  std::string validator;  ///< a strong ETag, or a date: names this state of the file; may be empty
};

/// Gets one file from a server over HTTP/1.1 or 2 (RFC 9110): parts where it sends parts, asked for again
/// with If-Range so that a file that is changed meanwhile is noticed. Redirects are followed within http and
/// https, and never from https to http; certificates are checked. From one thread at a time.
class HttpClient {
 public:
  /// Nothing is sent yet. Throws Malformed for a URL that has a password in it.
  HttpClient(const std::string& url, HttpOptions options);
  ~HttpClient();
  HttpClient(const HttpClient&) = delete;
  HttpClient& operator=(const HttpClient&) = delete;

  /// Receives bytes in order.
  using Receive = std::function<void(ByteView)>;

  /// Asks for the first `count` bytes; a server that sends no parts sends the whole file. Throws IoError
  /// where there is none, NeedsKey where one must say who asks, else Error of kind io.
  HttpHead begin(std::uint64_t count, const Receive& receive);

  /// Asks for bytes of the file that begin() found. Throws as begin(), and Malformed when the file is not the
  /// same any more or the server sends other bytes than were asked for.
  void range(std::uint64_t at, std::uint64_t count, const Receive& receive);

 private:
  struct State;
  std::unique_ptr<State> state_;
};

/// Whether a word is a place on a server: it begins with http:// or https://.
bool is_url(std::string_view word);

}  // namespace operculum
