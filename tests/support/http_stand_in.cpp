#include "support/http_stand_in.h"

#include <arpa/inet.h>
#include <fmt/format.h>
#include <netinet/in.h>
#include <poll.h>
#include <sys/socket.h>
#include <unistd.h>

#include <algorithm>
#include <chrono>
#include <stdexcept>

#include "base/text.h"

namespace operculum::test {
namespace {

void send_all(int connection, std::string_view bytes) {
  while (!bytes.empty()) {
    ssize_t count = ::send(connection, bytes.data(), bytes.size(), MSG_NOSIGNAL);
    if (count <= 0) return;
    bytes.remove_prefix(static_cast<std::size_t>(count));
  }
}

std::string header_of(const std::string& request, std::string_view name) {
  for (std::string_view line : split(request, '\n')) {
    std::size_t colon = line.find(':');
    if (colon != std::string_view::npos && to_lower(line.substr(0, colon)) == name)
      return std::string(trim(line.substr(colon + 1)));
  }
  return "";
}

/// "bytes=0-99" against a file's size.
struct Range {
  std::uint64_t begin = 0, end = 0;
  bool asked = false;
};

Range range_of(const std::string& request, std::uint64_t size) {
  std::string text = header_of(request, "range");
  if (!text.starts_with("bytes=")) return {0, size, false};
  std::size_t dash = text.find('-');
  auto begin = parse_number(std::string_view(text).substr(6, dash - 6));
  auto last = parse_number(std::string_view(text).substr(dash + 1));
  return {begin.value_or(0), std::min(size, last.value_or(size - 1) + 1), true};
}

}  // namespace

HttpStandIn::HttpStandIn(Manner manner) : manner_(manner) {
  listener_ = socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0);
  sockaddr_in address{};
  address.sin_family = AF_INET;
  address.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
  socklen_t length = sizeof address;
  auto* any = reinterpret_cast<sockaddr*>(&address);
  if (bind(listener_, any, length) != 0 || listen(listener_, 16) != 0 ||
      getsockname(listener_, any, &length) != 0)
    throw std::runtime_error("no port for the stand-in server");
  port_ = ntohs(address.sin_port);
  thread_ = std::thread([this] { serve(); });
}

HttpStandIn::~HttpStandIn() {
  stop_ = true;
  thread_.join();
  close(listener_);
}

void HttpStandIn::put(const std::string& path, Bytes bytes) {
  std::lock_guard lock(mutex_);
  files_[path] = std::move(bytes);
}

void HttpStandIn::answer_with(std::vector<Bytes> answers) {
  std::lock_guard lock(mutex_);
  answers_ = std::move(answers);
}

std::string HttpStandIn::url(const std::string& path) const {
  return fmt::format("http://127.0.0.1:{}{}", port_, path);
}

void HttpStandIn::serve() {
  while (!stop_) {
    pollfd waiting{listener_, POLLIN, 0};
    if (poll(&waiting, 1, 20) <= 0) continue;
    int connection = accept4(listener_, nullptr, nullptr, SOCK_CLOEXEC);
    if (connection < 0) continue;
    answer(connection);
    close(connection);
  }
}

void HttpStandIn::answer(int connection) {
  std::string request;
  char block[4096];
  while (request.find("\r\n\r\n") == std::string::npos) {
    ssize_t count = recv(connection, block, sizeof block, 0);
    if (count <= 0) return;
    request.append(block, static_cast<std::size_t>(count));
  }
  unsigned number = ++requests_;
  {
    std::lock_guard lock(mutex_);
    if (!answers_.empty()) {
      send_all(connection, as_text(answers_.front()));
      if (answers_.size() > 1) answers_.erase(answers_.begin());
      return;
    }
  }
  auto refuse = [&](std::string_view status, std::string_view more = "") {
    send_all(connection, fmt::format("HTTP/1.1 {}\r\n{}Content-Length: 4\r\nConnection: close\r\n\r\nno!\n",
                                     status, more));
  };
  std::size_t blank = request.find(' ');
  std::string path = request.substr(blank + 1, request.find(' ', blank + 1) - blank - 1);
  if (manner_ == Manner::moved && !path.starts_with("/moved"))
    return refuse("302 Found", fmt::format("Location: /moved{}\r\n", path));
  if (path.starts_with("/moved")) path = path.substr(6);
  if (manner_ == Manner::locked && header_of(request, "authorization") != "Basic Z2F1Z2U6aGlnaCB3YXRlcg==")
    return refuse("401 Unauthorized", "WWW-Authenticate: Basic realm=\"gauge\"\r\n");
  if (manner_ == Manner::always_busy) return refuse("503 Service Unavailable", "Retry-After: 0\r\n");
  if (manner_ == Manner::busy && number % 3 == 1)
    return refuse("429 Too Many Requests", "Retry-After: 0\r\n");
  if (manner_ == Manner::busy && number % 3 == 2)
    return refuse("503 Service Unavailable", "Retry-After: 0\r\n");
  Bytes file;
  {
    std::lock_guard lock(mutex_);
    auto found = files_.find(path);
    if (found == files_.end()) return refuse("404 Not Found");
    file = found->second;
  }
  send_file(connection, request, file);
}

void HttpStandIn::send_file(int connection, const std::string& request, const Bytes& file) {
  Range range = range_of(request, file.size());
  std::string tag = manner_ == Manner::changes && requests_ >= 3 ? "\"second\"" : "\"first\"";
  std::string if_range = header_of(request, "if-range");
  bool partial = range.asked && manner_ != Manner::no_ranges && (if_range.empty() || if_range == tag);
  if (!partial) range = {0, file.size(), false};
  if (partial && range.begin >= file.size())
    return send_all(connection,
                    fmt::format("HTTP/1.1 416 Range Not Satisfiable\r\nContent-Range: bytes */{}\r\n"
                                "Content-Length: 0\r\nConnection: close\r\n\r\n",
                                file.size()));
  std::uint64_t length = range.end - range.begin;
  std::string head =
      partial
          ? fmt::format("HTTP/1.1 206 Partial Content\r\nContent-Range: bytes {}-{}/{}\r\n",
                        range.begin + (manner_ == Manner::wrong_range ? 1 : 0), range.end - 1, file.size())
          : "HTTP/1.1 200 OK\r\n";
  std::uint64_t said = manner_ == Manner::too_much ? length + 10 : length;
  head += fmt::format("ETag: {}\r\nContent-Length: {}\r\nConnection: close\r\n\r\n", tag, said);
  send_all(connection, head);
  std::string_view body = as_text(ByteView(file).subspan(range.begin, length));
  bool second = requests_ % 2 == 0;
  if (manner_ == Manner::cut && second) body = body.substr(0, body.size() / 2);
  if (manner_ == Manner::stalls && requests_ == 1) body = body.substr(0, body.size() / 2);
  sent_ += body.size();
  send_all(connection, body);
  if (manner_ == Manner::too_much) send_all(connection, "0123456789");
  if (manner_ == Manner::stalls && requests_ == 1) {
    for (int i = 0; i < 300 && !stop_; ++i) std::this_thread::sleep_for(std::chrono::milliseconds(10));
  }
}

}  // namespace operculum::test
