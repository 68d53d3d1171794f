#include "task/verify.h"

#include <algorithm>
#include <memory>

#include "base/ordered_work.h"
#include "task/entering.h"
#include "task/path_conflicts.h"

namespace operculum {
namespace {

constexpr std::size_t kWholeBuffer = 1 << 20;  // bytes; an entry that fits is decoded in one go
constexpr std::size_t kLeastBuffer = 64 << 10;
constexpr std::uint64_t kSmallEntry =
    64 << 10;  // bytes: an entry of so many takes less time than waking up a thread

class Verifier {
 public:
  Verifier(const Place& place, const VerifyRequest& request, OpenContext& context, Progress& progress,
           const std::function<void(const Fault&)>& sink)
      : place_(place),
        request_(request),
        context_(context),
        progress_(progress),
        sink_(sink),
        meter_(context.limits),
        work_(request.jobs) {}

  VerifyTotals run() {
    bool covered = false;
    for (const Layer& layer : place_.layers) covered |= layer.format->checks_data;
    if (place_.is_container()) {
      walk_all(covered);
      tell_conflicts();
    } else if (place_.content) {
      const Entry& entry = *place_.entry;
      bool checked = covered || entry.is(Entry::has_crc) || entry.is(Entry::has_sum);
      decode({entry.path, entry.size, place_.content, checked});
    }
    work_.finish();
    for (const Layer& layer : place_.layers) tell_findings("", *layer.container);
    return totals_;
  }

 private:
  void walk_all(bool covered) {
    WalkEvents events;
    events.found = [this](const Found& found) {
      if (progress_.stop) return false;
      if (found.entry.has_data() && request_.selection.wants(found.path)) take(found);
      return true;
    };
    events.leave = [this](const std::string& path, Container& container) {
      work_.finish();
      if (!path.empty()) tell_findings(path, container);
    };
    events.unreadable = [this](const std::string& path, const Error& error) {
      Fault fault{path, std::string("cannot be entered: ") + error.what(), Finding::Level::warning,
                  error.kind()};
      work_.report([this, fault] { tell(fault); });
    };
    events.differs = [this](const std::string& path, const Error& error) {
      Fault fault{path, error.what(), Finding::Level::fault, error.kind()};
      work_.report([this, fault] {
        ++totals_.failed;
        tell(fault);
      });
    };
    walk(place_, context_,
         {.deep = request_.deep, .programs = request_.programs, .covered = covered, .whole = true}, events);
  }

  /// What there is to decode.
  struct Item {
    std::string path;
    std::uint64_t size;
    ContentPtr content;
    bool checked;  // some checksum will be compared
  };

  void take(const Found& found) {
    Item item{found.path, found.entry.size, found.content, found.covered};
    if (!request_.deep && names_packed(base_name(found.path))) ++totals_.nested;
    if (found.stream != nullptr) {
      work_.report(drain(item, *found.stream));
    } else {
      decode(std::move(item), found.lane);
    }
  }

  void decode(Item to_decode, std::size_t lane = 0) {
    std::uint64_t size = to_decode.size;
    auto work = [this, item = std::move(to_decode)]() -> OrderedWork::Report {
      try {
        StreamPtr data = item.content->stream();
        return drain(item, *data);
      } catch (const GuardTripped&) {
        throw;
      } catch (const std::exception& thrown) {
        Error error = as_error(thrown);
        return fault_report(item.path, error);
      }
    };
    bool small = lane == 0 && size <= kSmallEntry;
    small ? work_.submit_small(std::move(work)) : work_.submit(std::move(work), lane);
  }

  OrderedWork::Report drain(const Item& item, Stream& stream) {
    auto room = static_cast<std::size_t>(std::clamp<std::uint64_t>(item.size, kLeastBuffer, kWholeBuffer));
    auto block =
        std::make_unique_for_overwrite<Byte[]>(room);  // clearing it would cost more than some codecs
    std::uint64_t bytes = 0;
    try {
      for (;;) {
        std::uint64_t hole = stream.skip_hole();
        std::size_t count = stream.read({block.get(), room});
        meter_.add(count);
        progress_.bytes += hole + count;
        bytes += hole + count;
        if (count == 0) break;
      }
    } catch (const GuardTripped&) {
      throw;
    } catch (const std::exception& thrown) {
      Error error = as_error(thrown);
      return fault_report(item.path, error);
    }
    ++progress_.entries;
    return [this, bytes, checked = item.checked] {
      ++totals_.entries;
      totals_.bytes += bytes;
      totals_.with_checksum += checked ? 1 : 0;
    };
  }

  OrderedWork::Report fault_report(const std::string& path, const Error& error) {
    return [this, fault = Fault{path, error.what(), Finding::Level::fault, error.kind()}] {
      ++totals_.failed;
      tell(fault);
    };
  }

  void tell_findings(const std::string& path, Container& container) {
    for (const Finding& finding : container.findings())
      if (finding.about == Finding::About::container)
        tell({path, finding.text, finding.level, ErrorKind::malformed});
  }

  /// Where a later entry is not meant to replace an earlier one, equal paths are odd.
  void tell_conflicts() {
    const Layer& layer = place_.layers.back();
    if (layer.format->later_replaces || layer.container->access() != Access::random || !place_.inside.empty())
      return;
    for (const Finding& finding : path_conflicts(layer.container->entries()))
      tell({"", finding.text, finding.level, ErrorKind::malformed});
  }

  void tell(const Fault& fault) {
    totals_.faults += fault.level == Finding::Level::fault ? 1 : 0;
    totals_.warnings += fault.level == Finding::Level::warning ? 1 : 0;
    totals_.key_needed |= fault.error == ErrorKind::needs_key;
    sink_(fault);
  }

  const Place& place_;
  const VerifyRequest& request_;
  OpenContext& context_;
  Progress& progress_;
  const std::function<void(const Fault&)>& sink_;
  Meter meter_;
  VerifyTotals totals_;
  OrderedWork work_;  // last: its threads use the rest
};

}  // namespace

VerifyTotals verify(const Place& place, const VerifyRequest& request, OpenContext& context,
                    Progress& progress, const std::function<void(const Fault&)>& sink) {
  return Verifier(place, request, context, progress, sink).run();
}

}  // namespace operculum
