#include "base/time.h"

#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <ctime>
#include <string>

namespace operculum {
namespace {

constexpr std::uint64_t kTicksPerSecond = 10'000'000;
constexpr std::int64_t kFiletimeEpoch = 11'644'473'600;  // seconds from 1601-01-01 to 1970-01-01

struct Civil {
  int year;
  unsigned month, day, hour, minute, second;
};

/// Years outside this range come from damage, and chrono's calendar does not reach them.
bool printable(std::int64_t seconds) {
  return seconds > -62'135'596'800 && seconds < 253'402'300'800;
}

Civil to_civil(std::int64_t seconds) {
  using namespace std::chrono;
  sys_seconds moment{std::chrono::seconds{seconds}};
  auto day = floor<days>(moment);
  year_month_day date{day};
  hh_mm_ss clock{moment - day};
  return {static_cast<int>(date.year()),
          static_cast<unsigned>(date.month()),
          static_cast<unsigned>(date.day()),
          static_cast<unsigned>(clock.hours().count()),
          static_cast<unsigned>(clock.minutes().count()),
          static_cast<unsigned>(clock.seconds().count())};
}

}  // namespace

Timestamp from_unix(std::int64_t seconds, std::uint32_t nanoseconds) {
  return {seconds, nanoseconds, false};
}

Timestamp from_dos(std::uint16_t date, std::uint16_t time) {
  if (date == 0) return {};
  using namespace std::chrono;
  year_month_day day{year{1980 + (date >> 9)}, month{static_cast<unsigned>((date >> 5) & 15)},
                     std::chrono::day{static_cast<unsigned>(date & 31)}};
  int hour = time >> 11, minute = (time >> 5) & 63, second = (time & 31) * 2;
  if (!day.ok() || hour > 23 || minute > 59 || second > 59) return {};
  return {sys_seconds{sys_days{day}}.time_since_epoch().count() + hour * 3600 + minute * 60 + second, 0,
          true};
}

DosTime to_dos(const Timestamp& time) {
  if (!time.known()) return {};
  std::time_t seconds = time.seconds;
  std::tm parts{};
  gmtime_r(&seconds, &parts);
  int year = parts.tm_year + 1900;
  if (year < 1980) return {};
  year = std::min(year, 2107);
  auto date = static_cast<std::uint16_t>((year - 1980) << 9 | (parts.tm_mon + 1) << 5 | parts.tm_mday);
  return {date, static_cast<std::uint16_t>(parts.tm_hour << 11 | parts.tm_min << 5 | parts.tm_sec / 2)};
}

Timestamp from_calendar(int year, int month, int day, int hour, int minute, int second) {
  if (month < 1 || month > 12 || day < 1 || day > 31 || hour < 0 || hour > 23 || minute < 0 || minute > 59 ||
      second < 0 || second > 60)
    return {};
  std::tm parts{};
  parts.tm_year = year - 1900;
  parts.tm_mon = month - 1;
  parts.tm_mday = day;
  parts.tm_hour = hour;
  parts.tm_min = minute;
  parts.tm_sec = second;
  return from_unix(timegm(&parts));
}

std::optional<Timestamp> parse_time(std::string_view text) {
  bool utc = text.ends_with('Z');
  std::string plain(text.substr(0, text.size() - (utc ? 1 : 0)));
  for (const char* form :
       {"%Y-%m-%d", "%Y-%m-%d %H:%M", "%Y-%m-%dT%H:%M", "%Y-%m-%d %H:%M:%S", "%Y-%m-%dT%H:%M:%S"}) {
    std::tm parts{};
    const char* end = strptime(plain.c_str(), form, &parts);
    if (end == nullptr || *end != '\0') continue;
    std::tm normal = parts;
    std::int64_t seconds = timegm(&normal);
    if (normal.tm_mday != parts.tm_mday) return std::nullopt;  // no such day in that month
    return Timestamp{seconds, 0, !utc};
  }
  return std::nullopt;
}

Timestamp from_filetime(std::uint64_t ticks) {
  if (ticks == 0) return {};
  return {static_cast<std::int64_t>(ticks / kTicksPerSecond) - kFiletimeEpoch,
          static_cast<std::uint32_t>(ticks % kTicksPerSecond * 100), false};
}

std::uint64_t to_filetime(const Timestamp& time) {
  if (!time.known() || time.seconds < -kFiletimeEpoch) return 0;
  return static_cast<std::uint64_t>(time.seconds + kFiletimeEpoch) * kTicksPerSecond + time.nanoseconds / 100;
}

std::int64_t to_unix_seconds(const Timestamp& time) {
  if (!time.floating || !printable(time.seconds)) return time.seconds;
  Civil civil = to_civil(time.seconds);
  std::tm wall{};
  wall.tm_year = civil.year - 1900;
  wall.tm_mon = static_cast<int>(civil.month) - 1;
  wall.tm_mday = static_cast<int>(civil.day);
  wall.tm_hour = static_cast<int>(civil.hour);
  wall.tm_min = static_cast<int>(civil.minute);
  wall.tm_sec = static_cast<int>(civil.second);
  wall.tm_isdst = -1;
  return std::mktime(&wall);
}

std::string to_text(const Timestamp& time) {
  if (!time.known() || !printable(time.seconds)) return "-";
  Civil c = to_civil(time.seconds);
  return fmt::format("{:04}-{:02}-{:02} {:02}:{:02}:{:02}{}", c.year, c.month, c.day, c.hour, c.minute,
                     c.second, time.floating ? "" : "Z");
}

std::string to_rfc3339(const Timestamp& time) {
  if (!time.known() || !printable(time.seconds)) return "";
  Civil c = to_civil(time.seconds);
  std::string text =
      fmt::format("{:04}-{:02}-{:02}T{:02}:{:02}:{:02}", c.year, c.month, c.day, c.hour, c.minute, c.second);
  if (time.nanoseconds != 0) text += fmt::format(".{:09}", time.nanoseconds);
  if (!time.floating) text += 'Z';
  return text;
}

}  // namespace operculum
