#include "io/http_client.h"

#include <fmt/format.h>

#include <algorithm>
#include <cerrno>
#include <chrono>
#include <cstdlib>
#include <exception>
#include <thread>
#include <utility>

#include "base/error.h"
#include "base/text.h"
#include "base/units.h"
#include "io/curl_library.h"

namespace operculum {
namespace {

constexpr long kMostRedirects = 10;
constexpr long kConnectSeconds = 20;
constexpr unsigned kLongestPause = 60;  // seconds; a server that asks for more patience is not waited for

/// Statuses (RFC 9110 section 15, RFC 6585) that may be other ones a moment later.
bool may_pass(long status) {
  return status == 408 || status == 429 || status == 500 || status == 502 || status == 503 || status == 504;
}

/// Network errors after which it is worth asking again.
bool may_pass(CURLcode code) {
  switch (code) {
    case CURLE_COULDNT_CONNECT:
    case CURLE_OPERATION_TIMEDOUT:
    case CURLE_PARTIAL_FILE:
    case CURLE_GOT_NOTHING:
    case CURLE_RECV_ERROR:
    case CURLE_SEND_ERROR:
    case CURLE_HTTP2:
    case CURLE_HTTP2_STREAM:
      return true;
    default:
      return false;
  }
}

/// "bytes 0-99/1234" of RFC 9110 section 14.4.
struct ContentRange {
  std::uint64_t first = 0, last = 0;
  std::optional<std::uint64_t> size;
};

std::optional<ContentRange> read_content_range(std::string_view text) {
  if (!to_lower(text).starts_with("bytes ")) return std::nullopt;
  text.remove_prefix(6);
  std::size_t slash = text.find('/');
  if (slash == std::string_view::npos) return std::nullopt;
  ContentRange range;
  range.size = parse_number(trim(text.substr(slash + 1)));
  std::string_view places = trim(text.substr(0, slash));
  if (places == "*") return range;
  std::size_t dash = places.find('-');
  if (dash == std::string_view::npos) return std::nullopt;
  auto first = parse_number(places.substr(0, dash)), last = parse_number(places.substr(dash + 1));
  if (!first || !last || *last < *first) return std::nullopt;
  range.first = *first;
  range.last = *last;
  return range;
}

/// The answer to one request while it comes in.
struct Answer {
  long status = 0;
  std::string range, length, etag, date, pause;

  void header(std::string_view line) {
    if (line.starts_with("HTTP/")) {  // of each answer on the way, the last one counts
      *this = {};
      std::size_t blank = line.find(' ');
      auto code = blank == std::string_view::npos ? std::nullopt : parse_number(line.substr(blank + 1, 3));
      status = code ? static_cast<long>(*code) : 0;
      return;
    }
    std::size_t colon = line.find(':');
    if (colon == std::string_view::npos) return;
    std::string name = to_lower(line.substr(0, colon)), value(trim(line.substr(colon + 1)));
    struct Wanted {
      std::string_view name;
      std::string Answer::*field;
    };
    constexpr Wanted kWanted[] = {{"content-range", &Answer::range},
                                  {"content-length", &Answer::length},
                                  {"etag", &Answer::etag},
                                  {"last-modified", &Answer::date},
                                  {"retry-after", &Answer::pause}};
    for (const Wanted& wanted : kWanted) {
      if (wanted.name == name) this->*wanted.field = value;
    }
  }

  /// RFC 9110 section 13.1.5: a weak tag names no state exactly.
  std::string validator() const { return etag.empty() || etag.starts_with("W/") ? date : etag; }
};

}  // namespace

struct HttpClient::State {
  const CurlLibrary& library = curl_library();
  CURL* curl = nullptr;
  std::string url;
  HttpOptions options;
  HttpHead head;
  std::string credentials;
  std::uint64_t requests = 0;
  char error[CURL_ERROR_SIZE] = {};

  // Of the request that runs.
  Answer answer;
  std::uint64_t at = 0, left = 0;  // what is still to come of the range
  bool whole = false;              // the server sends everything
  std::string trouble;             // why the transfer was ended from here
  const Receive* receive = nullptr;
  std::exception_ptr thrown;

  std::string host() const {
    std::size_t begin = url.find("://") + 3;
    return url.substr(begin, url.find('/', begin) - begin);
  }

  static std::size_t on_header(char* data, std::size_t size, std::size_t count, void* self) {
    static_cast<State*>(self)->answer.header(trim(std::string_view(data, size * count)));
    return size * count;
  }

  static std::size_t on_body(char* data, std::size_t size, std::size_t count, void* self) {
    std::size_t length = size * count;
    return static_cast<State*>(self)->body({reinterpret_cast<const Byte*>(data), length}) ? length : 0;
  }

  static int on_progress(void* self, curl_off_t, curl_off_t, curl_off_t, curl_off_t) {
    return static_cast<State*>(self)->options.stopped() ? 1 : 0;
  }

  /// False ends the transfer.
  bool body(ByteView bytes) {
    if (answer.status == 200 && head.ranges) {
      trouble = "it was changed on the server while it was read";
      return false;
    }
    if (answer.status != 200 && answer.status != 206) return true;  // words about an error
    if (answer.status == 200) whole = true;
    if (answer.status == 206 && !range_fits()) return false;
    if (!whole && bytes.size() > left) {
      trouble = "the server sends more than was asked for";
      return false;
    }
    try {
      (*receive)(bytes);
    } catch (...) {
      thrown = std::current_exception();
      return false;
    }
    at += bytes.size();
    left -= std::min<std::uint64_t>(left, bytes.size());
    return true;
  }

  /// Whether a partial answer is the part that was asked for, of the file that was asked for.
  bool range_fits() {
    if (range_checked) return true;
    auto range = read_content_range(answer.range);
    if (!range || range->first != at) {
      trouble = "the server sends another part than was asked for";
    } else if (head.ranges && (range->size != head.size || is_another(answer.validator()))) {
      trouble = "it was changed on the server while it was read";
    }
    range_checked = trouble.empty();
    return range_checked;
  }
  bool is_another(const std::string& validator) const {
    return !validator.empty() && !head.validator.empty() && validator != head.validator;
  }
  bool range_checked = false;

  CURLcode send() {
    ++requests;
    answer = {};
    trouble.clear();
    range_checked = false;
    std::string range = fmt::format("{}-{}", at, at + left - 1);
    std::string if_range = "If-Range: " + head.validator;
    curl_slist* headers =
        head.ranges && !head.validator.empty() ? library.slist_append(nullptr, if_range.c_str()) : nullptr;
    library.easy_setopt(curl, CURLOPT_RANGE, range.c_str());
    library.easy_setopt(curl, CURLOPT_HTTPHEADER, headers);
    CURLcode code = library.easy_perform(curl);
    library.easy_setopt(curl, CURLOPT_HTTPHEADER, nullptr);
    library.slist_free_all(headers);
    return code;
  }

  /// Asks, and asks again where that may help, until the range is there.
  void fetch() {
    for (unsigned attempt = 1;; ++attempt) {
      CURLcode code = send();
      if (thrown) std::rethrow_exception(std::exchange(thrown, nullptr));
      if (!trouble.empty()) throw Malformed(trouble);
      if (options.stopped()) throw Error(ErrorKind::io, "the transfer was interrupted");
      if (code == CURLE_OK && (answer.status == 200 || answer.status == 206)) {
        if (whole || left == 0 || !head.ranges) return;
        code = CURLE_PARTIAL_FILE;  // fewer bytes than a range has
      }
      if (code == CURLE_OK && !may_pass(answer.status)) return;
      bool again = (code == CURLE_OK || may_pass(code)) && attempt < options.tries;
      if (again && whole && at > 0) again = false;  // a server without ranges would begin anew
      if (!again) fail(code);
      pause(attempt);
    }
  }

  [[noreturn]] void fail(CURLcode code) const {
    if (code == CURLE_OK)
      throw Error(ErrorKind::io, fmt::format("the server answers {} ({} times)", answer.status, requests));
    const char* words = error[0] != '\0' ? error : library.easy_strerror(code);
    throw Error(ErrorKind::io, fmt::format("the server cannot be read: {}", printable(words)));
  }

  void pause(unsigned attempt) const {
    auto asked = parse_number(answer.pause);
    auto wait = std::chrono::milliseconds(250) * (1u << std::min(attempt - 1, 6u));
    if (asked) wait = std::chrono::seconds(std::min<std::uint64_t>(*asked, kLongestPause));
    auto end = std::chrono::steady_clock::now() + wait;
    while (std::chrono::steady_clock::now() < end && !options.stopped())
      std::this_thread::sleep_for(std::chrono::milliseconds(20));
  }

  void aim(std::uint64_t begin, std::uint64_t count, const Receive& to) {
    at = begin;
    left = count;
    whole = false;
    receive = &to;
  }

  /// Whether the server lets these credentials in.
  bool works(const std::string& secret) {
    Receive nothing = [](ByteView) {};
    aim(0, 1, nothing);
    library.easy_setopt(curl, CURLOPT_USERPWD, secret.c_str());
    library.easy_setopt(curl, CURLOPT_HTTPAUTH, static_cast<long>(CURLAUTH_BASIC | CURLAUTH_DIGEST));
    send();
    return answer.status != 401 && answer.status != 403;
  }

  void check_status() {
    switch (answer.status) {
      case 200:
      case 206:
        return;
      case 401:
      case 403:
        throw NeedsKey(
            fmt::format("the server answers {}: it wants to know who asks; ~/.netrc or keys.toml can hold "
                        "user:password for {}",
                        answer.status, host()));
      case 404:
      case 410:
        throw IoError(escape(url), ENOENT);
      default:
        throw Error(ErrorKind::io, fmt::format("the server answers {}", answer.status));
    }
  }
};

HttpClient::HttpClient(const std::string& url, HttpOptions options) : state_(std::make_unique<State>()) {
  State& state = *state_;
  const CurlLibrary& library = state.library;
  state.url = url;
  state.options = std::move(options);
  if (state.host().find('@') != std::string::npos)
    throw Malformed(
        "a password in a URL is seen by everyone on the machine; put it into ~/.netrc or keys.toml");
  state.curl = library.easy_init();
  if (state.curl == nullptr) throw Error(ErrorKind::io, "the HTTP library cannot be used");
  bool secure = to_lower(url).starts_with("https:");
  CURL* curl = state.curl;
  library.easy_setopt(curl, CURLOPT_URL, url.c_str());
  library.easy_setopt(curl, CURLOPT_PROTOCOLS_STR, "http,https");
  library.easy_setopt(curl, CURLOPT_REDIR_PROTOCOLS_STR, secure ? "https" : "http,https");
  library.easy_setopt(curl, CURLOPT_FOLLOWLOCATION, 1L);
  library.easy_setopt(curl, CURLOPT_MAXREDIRS, kMostRedirects);
  library.easy_setopt(curl, CURLOPT_HTTP_VERSION, static_cast<long>(CURL_HTTP_VERSION_2TLS));
  library.easy_setopt(curl, CURLOPT_NETRC, static_cast<long>(CURL_NETRC_OPTIONAL));
  library.easy_setopt(curl, CURLOPT_USERAGENT, "operculum/" OPERCULUM_VERSION);
  library.easy_setopt(curl, CURLOPT_CONNECTTIMEOUT, kConnectSeconds);
  library.easy_setopt(curl, CURLOPT_LOW_SPEED_LIMIT, 1L);
  library.easy_setopt(curl, CURLOPT_LOW_SPEED_TIME, static_cast<long>(state.options.stall_seconds));
  library.easy_setopt(curl, CURLOPT_NOSIGNAL, 1L);
  library.easy_setopt(curl, CURLOPT_ERRORBUFFER, state.error);
  library.easy_setopt(curl, CURLOPT_HEADERFUNCTION, State::on_header);
  library.easy_setopt(curl, CURLOPT_HEADERDATA, &state);
  library.easy_setopt(curl, CURLOPT_WRITEFUNCTION, State::on_body);
  library.easy_setopt(curl, CURLOPT_WRITEDATA, &state);
  library.easy_setopt(curl, CURLOPT_XFERINFOFUNCTION, State::on_progress);
  library.easy_setopt(curl, CURLOPT_XFERINFODATA, &state);
  library.easy_setopt(curl, CURLOPT_NOPROGRESS, 0L);
  if (const char* authorities = std::getenv("SSL_CERT_FILE"))
    library.easy_setopt(curl, CURLOPT_CAINFO, authorities);
}

HttpClient::~HttpClient() {
  if (state_->curl != nullptr) state_->library.easy_cleanup(state_->curl);
}

HttpHead HttpClient::begin(std::uint64_t count, const Receive& receive) {
  State& state = *state_;
  state.head = {};
  state.aim(0, count, receive);
  state.fetch();
  if (state.answer.status == 401 && state.options.credentials &&
      state.options.credentials(state.host(),
                                [&](const std::string& secret) { return state.works(secret); })) {
    state.aim(0, count, receive);
    state.fetch();
  }
  if (state.answer.status == 416) {  // no bytes at all to be sent
    auto range = read_content_range(state.answer.range);
    if (range && range->size == std::uint64_t{0}) return {false, 0, state.answer.validator()};
  }
  state.check_status();
  auto range = read_content_range(state.answer.range);
  if (state.answer.status == 206 && range && range->size) {
    if (std::uint64_t due = std::min(count, *range->size); state.at != due)
      throw Malformed(fmt::format("the server was to send the first {} bytes and sends {}", grouped(due),
                                  grouped(state.at)));
    state.head = {true, range->size, state.answer.validator()};
  } else {
    state.head = {false, parse_number(state.answer.length), state.answer.validator()};
  }
  return state.head;
}

void HttpClient::range(std::uint64_t at, std::uint64_t count, const Receive& receive) {
  State& state = *state_;
  state.aim(at, count, receive);
  state.fetch();
  state.check_status();
}

bool is_url(std::string_view word) {
  std::string front = to_lower(word.substr(0, 8));
  return front.starts_with("http://") || front.starts_with("https://");
}

}  // namespace operculum
