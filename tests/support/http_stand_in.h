#pragma once

#include <atomic>
#include <functional>
#include <map>
#include <mutex>
#include <string>
#include <thread>
#include <vector>

#include "base/bytes.h"

namespace operculum::test {

/// A small web server on this machine that behaves, or does not, as it is told. One thread, one connection a
/// request; it ends with the object.
class HttpStandIn {
 public:
  enum class Manner {
    plain,        ///< sends the ranges that are asked for
    no_ranges,    ///< always sends everything
    cut,          ///< closes each second answer in the middle
    stalls,       ///< sends the front of its first answer, then nothing more
    wrong_range,  ///< says that it sends another range than it was asked for
    too_much,     ///< sends more than it says
    changes,      ///< the file has another tag from the third request on
    busy,         ///< answers 429, then 503, then as it should; and so on
    always_busy,  ///< answers 503
    locked,       ///< answers 401 unless "Authorization" is right for user "gauge", password "high water"
    moved,        ///< redirects to /moved/ in front of the path
  };

  explicit HttpStandIn(Manner manner);
  ~HttpStandIn();
  HttpStandIn(const HttpStandIn&) = delete;
  HttpStandIn& operator=(const HttpStandIn&) = delete;

  void put(const std::string& path, Bytes bytes);  ///< path with a slash in front
  /// From now on requests are answered with these bytes, whatever they ask: the last of them again and again.
  void answer_with(std::vector<Bytes> answers);
  std::string url(const std::string& path) const;
  unsigned requests() const { return requests_; }
  std::uint64_t sent() const { return sent_; }  ///< bytes of files

 private:
  void serve();
  void answer(int connection);
  void send_file(int connection, const std::string& request, const Bytes& file);

  Manner manner_;
  int listener_ = -1;
  unsigned short port_ = 0;
  std::atomic<bool> stop_{false};
  std::atomic<unsigned> requests_{0};
  std::atomic<std::uint64_t> sent_{0};
  std::mutex mutex_;  // guards files_ and answers_
  std::map<std::string, Bytes> files_;
  std::vector<Bytes> answers_;
  std::thread thread_;
};

}  // namespace operculum::test
