#pragma once

#include <cstdint>
#include <limits>
#include <optional>
#include <string>
#include <string_view>

namespace operculum {

/// A moment as a container stores it. Most formats count from the Unix epoch in UTC; the DOS family stores
/// the wall clock of the machine that wrote it, without a zone: such a time is `floating` and `seconds` is
/// that wall clock read as if it were UTC, so that a listing is the same on every machine.
struct Timestamp {
  static constexpr std::int64_t kNone = std::numeric_limits<std::int64_t>::min();

  std::int64_t seconds = kNone;  ///< since 1970-01-01T00:00:00
  std::uint32_t nanoseconds = 0;
  bool floating = false;

  bool known() const { return seconds != kNone; }
  bool operator==(const Timestamp&) const = default;
};

Timestamp from_unix(std::int64_t seconds, std::uint32_t nanoseconds = 0);

/// MS-DOS date and time words (APPNOTE 4.4.6): two-second steps from 1980, floating; unknown when out of
/// range.
Timestamp from_dos(std::uint16_t date, std::uint16_t time);

/// The same words of a moment: its wall clock, UTC where it knows it, so that the same input gives the same
/// bytes on every machine. Times in front of 1980 and unknown ones become the earliest, those behind 2107 the
/// latest.
struct DosTime {
  std::uint16_t date = (1 << 5) | 1, time = 0;  // 1980-01-01
};
DosTime to_dos(const Timestamp& time);

/// A date and a time of day in UTC; unknown when a part is out of range. A leap second is the next second.
Timestamp from_calendar(int year, int month, int day, int hour, int minute, int second);

/// 100 ns steps since 1601-01-01 UTC, as NTFS stores them.
Timestamp from_filetime(std::uint64_t ticks);

/// Undoes from_filetime(); 0 when unknown.
std::uint64_t to_filetime(const Timestamp& time);

/// Seconds since the epoch for applying to a file: a floating time is read in this machine's zone.
std::int64_t to_unix_seconds(const Timestamp& time);

/// Reads "2026-03-01", "2026-03-01 14:05", "2026-03-01T14:05:09" or the same with "Z" behind for UTC; without
/// it the time is floating. Nothing when it is no time.
std::optional<Timestamp> parse_time(std::string_view text);

/// "2026-03-01 14:05:09", with "Z" behind when the time is UTC; "-" when unknown.
std::string to_text(const Timestamp& time);

/// RFC 3339: "2026-03-01T14:05:09.123456789Z"; no "Z" for a floating time; empty when unknown.
std::string to_rfc3339(const Timestamp& time);

}  // namespace operculum
