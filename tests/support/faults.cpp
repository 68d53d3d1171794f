#include "support/faults.h"

#include <array>
#include <atomic>
#include <cerrno>
#include <cstdlib>
#include <cstring>
#include <string>
#include <string_view>

#include "base/text.h"

namespace operculum {
namespace {

using kernel::Call;

struct Plan {
  std::atomic<bool> armed{false};
  Call call = Call::open;
  std::uint64_t nth = 0;
  int error = 0;
  bool on = false;
  std::atomic<std::uint64_t> met{0};
};
Plan plan;

constexpr std::array<std::string_view, 6> kNames = {"open", "unnamed", "make", "name", "read", "write"};

/// What the built program was told; once.
void read_environment() {
  const char* text = std::getenv("OPERCULUM_FAULT");
  if (text == nullptr) return;
  std::vector<std::string_view> words = split(text, ':');
  if (words.size() < 3) std::abort();
  for (std::size_t i = 0; i < kNames.size(); ++i) {
    if (words[0] == kNames[i]) plan.call = static_cast<Call>(i);
  }
  plan.nth = parse_number(words[1]).value_or(1);
  plan.error = static_cast<int>(parse_number(words[2]).value_or(EIO));
  plan.on = words.size() > 3;
  plan.armed = true;
}

/// Tells a test that drives the program whether the call came at all.
struct Telltale {
  Telltale() { read_environment(); }
  ~Telltale() {
    if (plan.armed && plan.met < plan.nth) std::fputs("fault: not reached\n", stderr);
  }
};
const Telltale kTelltale;

}  // namespace

bool kernel::fails(Call call) {
  if (!plan.armed || call != plan.call) return false;
  std::uint64_t number = ++plan.met;
  if (number != plan.nth && !(plan.on && number > plan.nth)) return false;
  errno = plan.error;
  return true;
}

namespace test {

CallFault::CallFault(Call call, std::uint64_t nth, int error, Then then) {
  plan.call = call;
  plan.nth = nth;
  plan.error = error;
  plan.on = then == Then::fails_on;
  plan.met = 0;
  plan.armed = true;
}

CallFault::~CallFault() {
  plan.armed = false;
}

bool CallFault::reached() const {
  return plan.met >= plan.nth;
}

}  // namespace test
}  // namespace operculum
