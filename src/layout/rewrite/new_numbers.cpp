#include "layout/rewrite/new_numbers.h"

#include <fmt/format.h>

#include "base/error.h"
#include "layout/rewrite/number_writer.h"

namespace operculum::layout {

void NewNumbers::set(const Driver& driver, std::uint64_t wanted, std::uint64_t now) {
  std::int64_t change = static_cast<std::int64_t>(wanted) - static_cast<std::int64_t>(now);
  if (change % driver.step != 0) {
    survey_.fail(
        fmt::format("the number at offset {} counts in steps of {}, and {} more is no multiple of that",
                    driver.read.at, driver.step, change));
  }
  put(driver.read, driver.read.value + change / driver.step * driver.unit);
}

void NewNumbers::set_if_it_fits(const Driver& driver, std::uint64_t wanted, std::uint64_t now) {
  try {
    set(driver, wanted, now);
  } catch (const Unsupported&) {
  } catch (const NoRoom&) {
  }
}

void NewNumbers::put(const NumberRead& read, std::int64_t value) {
  bool goes = row_ != nullptr && row_->kind == RowChange::Kind::removed && read.at >= row_->from &&
              read.at < row_->to;
  if (goes) return;
  const Source& source = *survey_.file.source;
  auto widened = widened_.find(read.at);
  auto bytes = widened == widened_.end() ? bytes_for(read, value, source)
                                         : bytes_in(widened->second.width, read, value, source);
  if (!bytes && widened == widened_.end()) {
    if (auto width = wider_for(read, value, source)) throw NoRoom{{read, *width}};
  }
  if (!bytes) survey_.fail(fmt::format("the number at offset {} has no room for {}", read.at, value));
  auto [known, is_new] = numbers_.try_emplace(read.at, Number{read.width, *bytes});
  if (!is_new && known->second.bytes != *bytes)
    survey_.fail(fmt::format("the number at offset {} would have to be two different ones", read.at));
}

}  // namespace operculum::layout
