#include "cli/progress_line.h"

#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <chrono>
#include <cstdio>

#include "base/units.h"

namespace operculum::cli {
namespace {

using Clock = std::chrono::steady_clock;

constexpr auto kPatience = std::chrono::milliseconds(1200);  // shorter work shows nothing
constexpr auto kStep = std::chrono::milliseconds(250);

/// How far a stream that must be read to its end has come, by its packed bytes.
std::string packed_text(const Spent& spent, double seconds) {
  std::uint64_t size = spent.size, reached = std::min<std::uint64_t>(spent.reached, size);
  if (size == 0 || reached == 0) return "";
  double share = static_cast<double>(reached) / static_cast<double>(size);
  auto left = static_cast<std::uint64_t>(seconds / share * (1 - share)) + 1;
  return fmt::format("{:3.0f}%  {}:{:02} left  ", share * 100, left / 60, left % 60);
}

std::string line_of(const Progress& progress, const Spent& spent, double seconds) {
  std::uint64_t bytes = progress.bytes, total = progress.total_bytes;
  double rate = seconds > 0 ? static_cast<double>(bytes) / seconds : 0;
  std::string text = human_size(bytes);
  if (total > 0)
    text = fmt::format("{:3}%  {} of {}", std::min<std::uint64_t>(100, bytes * 100 / total), text,
                       human_size(total));
  if (total == 0) text = packed_text(spent, seconds) + text;
  text += fmt::format("  {}/s", human_size(static_cast<std::uint64_t>(rate)));
  if (total > bytes && rate > 0) {
    auto left = static_cast<std::uint64_t>(static_cast<double>(total - bytes) / rate) + 1;
    text += fmt::format("  {}:{:02} left", left / 60, left % 60);
  }
  return text + fmt::format("  {}", counted(progress.entries, "file", "files"));
}

}  // namespace

ProgressLine::ProgressLine(Session& session) : session_(session), stoppable_(session.progress) {
  bool wanted = session.progress_shown == ProgressShown::always ||
                (session.progress_shown == ProgressShown::lasting && !session.quiet && isatty(2) == 1);
  if (wanted) thread_ = std::thread([this] { run(); });
}

ProgressLine::~ProgressLine() {
  if (!thread_.joinable()) return;
  {
    std::lock_guard lock(mutex_);
    done_ = true;
  }
  changed_.notify_all();
  thread_.join();
  clear();
}

void ProgressLine::clear() {
  std::lock_guard lock(mutex_);
  if (shown_) std::fputs("\r\x1b[K", stderr);
  shown_ = false;
}

void ProgressLine::run() {
  Clock::time_point start = Clock::now();
  std::unique_lock lock(mutex_);
  if (session_.progress_shown == ProgressShown::always) {
    show(0);
    changed_.wait_for(lock, kStep, [this] { return done_; });
  } else {
    changed_.wait_for(lock, kPatience, [this] { return done_; });
  }
  while (!done_) {
    show(std::chrono::duration<double>(Clock::now() - start).count());
    changed_.wait_for(lock, kStep, [this] { return done_; });
  }
}

void ProgressLine::show(double seconds) {
  if (session_.asking) return;
  std::string line =
      fmt::format("\r\x1b[K{}", line_of(session_.progress, *session_.context.limits.spent, seconds));
  std::fwrite(line.data(), 1, line.size(), stderr);
  shown_ = true;
}

}  // namespace operculum::cli
