#include "collection/find.h"

#include <fmt/format.h>
#include <sys/stat.h>

#include <algorithm>
#include <atomic>

#include "base/ordered_work.h"
#include "base/sum_kinds.h"
#include "base/text.h"
#include "codec/codec.h"
#include "collection/sight.h"
#include "collection/worker_pool.h"
#include "io/digest.h"
#include "io/read_ahead.h"

namespace operculum {
namespace {

constexpr std::uint64_t kWorthAThread =
    4 << 20;  // bytes; a file that large is decoded ahead of what looks at it

constexpr std::size_t kStep = 256 << 10;  // bytes read at a time

/// What reading a file showed.
struct Examined {
  std::uint64_t size = 0;
  std::vector<std::pair<std::string, std::string>> sums;  // by name, digits
  std::vector<ContentHit> hits;
  bool same = false;  // as a file whose bytes are looked for
};

/// The files whose bytes are looked for that one file may still be the same as, while it is read.
class Lookalikes {
 public:
  Lookalikes(const FindRequest& request, const Entry& entry) : wanted_(!request.files.empty()) {
    for (const auto& file : request.files) {
      if (!entry.size_known() || entry.size == file->size()) left_.push_back(file.get());
    }
  }
  void add(std::uint64_t offset, ByteView bytes) {
    std::erase_if(left_, [&](const WantedFile* file) { return !file->has(offset, bytes); });
  }
  bool ruled_out() const { return wanted_ && left_.empty(); }
  bool any_of_size(std::uint64_t size) const {
    return std::any_of(left_.begin(), left_.end(),
                       [&](const WantedFile* file) { return file->size() == size; });
  }

 private:
  bool wanted_;
  std::vector<const WantedFile*> left_;
};

/// Looks through one target in a context of its own.
class TargetFinder {
 public:
  TargetFinder(const std::string& target, const FindRequest& request, Worker& worker, Progress& progress)
      : target_(target),
        request_(request),
        worker_(worker),
        context_(worker.context()),
        progress_(progress),
        sight_(request, context_),
        selection_(request.selection) {
    selection_.fitted = std::make_shared<Fitted>();  // it is written to: each thread has its own
  }

  struct Result {
    std::vector<FoundFile> found;
    std::vector<std::pair<std::string, Error>> unreadable;
  };

  Result run() {
    Place place;
    try {
      place = resolve(target_, context_, Step::into);
    } catch (const std::exception& thrown) {
      result_.unreadable.emplace_back(target_, as_error(thrown));
      look_at_damaged();
      return std::move(result_);
    }
    try {
      look_at_itself(place);
      if (place.is_container()) walk_all(place);
    } catch (const std::exception& thrown) {
      result_.unreadable.emplace_back(target_, as_error(thrown));
    }
    return std::move(result_);
  }

 private:
  /// A container that cannot be opened is a file nevertheless.
  void look_at_damaged() {
    try {
      Place place = resolve(target_, context_, Step::bytes);
      if (place.layers.empty()) look_at_itself(place);
    } catch (const std::exception&) {
      return;  // told already
    }
  }

  void look_at_itself(const Place& place) {
    meter_.emplace(context_.limits);
    bool whole_file = target_ == place.file;
    Entry entry;
    struct stat status {};
    if (stat(place.file.c_str(), &status) == 0) file_time_ = from_unix(status.st_mtim.tv_sec);
    entry.path = place.name;
    ContentPtr content = place.content;
    if (whole_file) {
      entry.path = base_name(place.file);
      content = make_content(place.file_source);
      entry.size = place.file_source->size();
      entry.modified = file_time_;
    } else if (place.entry) {
      entry = copy_of(*place.entry);
    } else if (!content) {
      return;  // a folder in a container
    }
    Tested tested{entry, entry.path, "", content, nullptr, "", whole_file, place.is_container()};
    if (!request_.kinds.empty() && place.layers.empty()) tested.kind = kind_of(place);
    if (!place.layers.empty()) tested.kind = "container";
    test(tested);
    if (!place.layers.empty() && !place.is_container() && place.content) look_at_front_of(*place.content);
  }

  /// A packed file that is damaged at its front is told even where nothing else need be read of it.
  void look_at_front_of(const Content& content) {
    try {
      StreamPtr stream = content.stream();
      read_front(*stream);
    } catch (const std::exception& thrown) {
      if (result_.unreadable.empty()) result_.unreadable.emplace_back(target_, as_error(thrown));
    }
  }

  std::string_view kind_of(const Place& place) {
    Probe probe = make_probe(*place.content, place.name);
    return worker_.kinds().kind(probe, place.name);
  }

  void walk_all(const Place& place) {
    prefix_ = target_;
    while (prefix_.ends_with('/')) prefix_.pop_back();
    if (!place.inside.empty() && prefix_.ends_with(place.inside))
      prefix_.resize(prefix_.size() - place.inside.size() - 1);
    auto beneath = [&](const std::string& path) { return lies_in(path, place.inside); };
    bool parts = holds_parts(*place.layers.back().format);
    WalkEvents events;
    events.found = [&](const Found& found) {
      if (beneath(found.path)) test_found(found, As::file);
      ++progress_.entries;
      return !done();
    };
    events.worth = [&](Container& container) {
      return parts || sight_.may_lie_in(container, file_time_, depth_of_containers_, progress_.entries);
    };
    events.enter = [&](const std::string& path, const Entry& entry) {
      if (!beneath(path)) return false;
      return parts ? sight_.has_room(entry, depth_of_containers_)
                   : sight_.may_hold(entry, depth_of_containers_);
    };
    events.container = [&](const Found& found) {
      ++depth_of_containers_;
      if (beneath(found.path)) test_found(found, As::entered);
    };
    events.leave = [&](const std::string& path, Container& container) {
      if (!path.empty()) --depth_of_containers_;
      for (const Finding& finding : container.findings()) {
        if (finding.level == Finding::Level::fault && finding.about == Finding::About::container)
          result_.unreadable.emplace_back(locator_of(path), Malformed(finding.text));
      }
    };
    events.unreadable = [&](const std::string& path, const Error& error) {
      if (!names_a_container(base_name(path), context_)) return;  // it only began like one
      result_.unreadable.emplace_back(locator_of(path), error);
    };
    walk(place, context_, {.deep = true, .programs = request_.programs, .kinds = !request_.kinds.empty()},
         events);
  }

  std::string locator_of(const std::string& path) const {
    return path.empty() ? target_ : fmt::format("{}/{}", prefix_, path);
  }

  bool done() const { return progress_.stop || (request_.first && !result_.found.empty()); }

  /// Something that may be what is looked for.
  struct Tested {
    const Entry& entry;
    const std::string& path;  // what patterns are held against
    std::string within;       // the target; empty for the target itself
    ContentPtr content;
    Stream* stream;
    std::string_view kind;
    bool on_disk = false;
    bool entered = false;  // what is in it is tested by itself
  };

  /// A container that is entered is tested, too, but what is in it is by itself.
  enum class As { file, entered };
  void test_found(const Found& found, As role) {
    test({found.entry, found.path, found.path, found.content, found.stream, found.kind, false,
          role == As::entered});
  }

  void test(const Tested& tested) {
    const Entry& entry = tested.entry;
    if (tested.entered && !request_.needles.empty()) return;  // its files have the text, not their packing
    if (!fits_at_sight(tested)) return;
    FoundFile file{tested.within.empty() ? target_ : locator_of(tested.within),
                   target_,
                   tested.within,
                   entry.kind,
                   entry.has_data() ? entry.size : Entry::kUnknownSize,
                   entry.modified.known() ? entry.modified : file_time_,
                   "",
                   {}};
    if (needs_bytes(entry)) {
      if (!entry.has_data()) return;
      try {
        if (!fits_by_bytes(tested, file)) return;
      } catch (const GuardTripped&) {
        throw;
      } catch (const std::exception& thrown) {
        result_.unreadable.emplace_back(file.locator, as_error(thrown));
        return;
      }
    }
    result_.found.push_back(std::move(file));
  }

  bool fits_at_sight(const Tested& tested) const {
    if (!selection_.wants(tested.path) || !sight_.may_fit(tested.entry, file_time_)) return false;
    return request_.kinds.empty() ||
           std::find(request_.kinds.begin(), request_.kinds.end(), tested.kind) != request_.kinds.end();
  }

  bool looks_for_bytes() const { return !request_.digests.empty() || !request_.files.empty(); }

  bool needs_bytes(const Entry& entry) const {
    bool unsized = entry.has_data() && !entry.size_known() &&
                   (request_.least_size > 0 || request_.most_size != UINT64_MAX);
    bool by_stored_crc = entry.is(Entry::has_crc) && request_.files.empty() &&
                         std::all_of(request_.digests.begin(), request_.digests.end(),
                                     [](const WantedDigest& wanted) { return wanted.sum == "crc32"; });
    return unsized || (looks_for_bytes() && !by_stored_crc) || !request_.needles.empty() ||
           (request_.sums && entry.has_data());
  }

  bool fits_by_bytes(const Tested& tested, FoundFile& file) {
    Examined examined = examine(tested);
    file.size = examined.size;
    file.hits = std::move(examined.hits);
    if (examined.size < request_.least_size || examined.size > request_.most_size) return false;
    if (!request_.needles.empty() && file.hits.empty()) return false;
    bool wanted = !looks_for_bytes() || examined.same;
    for (const auto& [sum, digits] : examined.sums) {
      if (sum == "sha256") file.sha256 = digits;
      for (const WantedDigest& digest : request_.digests)
        wanted |= digest.sum == sum && digest.digits == digits;
    }
    return wanted;
  }

  Examined examine(const Tested& tested) {
    Examined out;
    StreamPtr own;
    if (tested.stream == nullptr) {
      own = tested.content->stream();
      bool large = !tested.entry.size_known() || tested.entry.size >= kWorthAThread;
      if (large && !tested.on_disk) own = make_read_ahead(std::move(own));
    }
    Stream& stream = own ? *own : *tested.stream;
    std::vector<std::pair<std::string, std::unique_ptr<Sum>>> sums = sums_wanted();
    ContentSearch search(request_.needles, request_.hits_each);
    Lookalikes lookalikes(request_, tested.entry);
    bool searching = !request_.needles.empty();
    bool sums_decide =
        !sums.empty() || tested.entry.is(Entry::has_crc);  // of the last, whether it is damaged
    block_.resize(kStep);
    while (std::size_t count = stream.read(block_)) {
      ByteView bytes = ByteView(block_).first(count);
      meter_->add(count);
      progress_.bytes += count;
      for (auto& [name, sum] : sums) sum->add(bytes);
      lookalikes.add(out.size, bytes);
      if (searching && !search.full()) search.add(bytes);
      out.size += count;
      if (progress_.stop || (!sums_decide && lookalikes.ruled_out())) break;
      if (searching && search.full() && sums.empty() && request_.files.empty() && tested.entry.size_known())
        break;
    }
    out.same = lookalikes.any_of_size(out.size);
    if (tested.entry.size_known()) out.size = tested.entry.size;
    if (searching) {
      search.finish();
      out.hits = search.hits();
    }
    for (auto& [name, sum] : sums) out.sums.emplace_back(name, to_hex(sum->finish()));
    return out;
  }

  std::vector<std::pair<std::string, std::unique_ptr<Sum>>> sums_wanted() const {
    std::vector<std::pair<std::string, std::unique_ptr<Sum>>> sums;
    auto add = [&](const std::string& name) {
      for (const auto& one : sums) {
        if (one.first == name) return;
      }
      sums.emplace_back(name, find_sum(name)->make({}));
    };
    for (const WantedDigest& wanted : request_.digests) add(wanted.sum);
    if (request_.sums) add("sha256");
    return sums;
  }

  const std::string& target_;
  const FindRequest& request_;
  Worker& worker_;
  OpenContext& context_;
  Progress& progress_;
  Sight sight_;
  Selection selection_;
  std::optional<Meter> meter_;
  Result result_;
  std::string prefix_;  // what paths within are put behind
  Timestamp file_time_;
  Bytes block_;  // of the file that is read
  std::uint64_t depth_of_containers_ = 0;
};

}  // namespace

std::optional<WantedDigest> read_wanted_digest(std::string_view digits) {
  for (const char* sum : {"crc32", "md5", "sha1", "sha256", "sha512"}) {
    if (auto bytes = read_digest(sum, digits)) return WantedDigest{sum, to_hex(*bytes)};
  }
  return std::nullopt;
}

FindTotals find(const std::vector<std::string>& targets, const FindRequest& request,
                const OpenContext& context, Progress& progress, const FindEvents& events) {
  FindTotals totals;
  std::atomic<bool> enough{false};
  WorkerPool workers(context);
  OrderedWork work(request.jobs);
  for (const std::string& target : targets) {
    if (progress.stop || enough) break;
    work.submit([&]() -> OrderedWork::Report {
      WorkerPool::Lease worker = workers.lease();
      auto result =
          std::make_shared<TargetFinder::Result>(TargetFinder(target, request, *worker, progress).run());
      return [&, result] {
        ++totals.targets;
        totals.targets_with += result->found.empty() ? 0 : 1;
        for (const FoundFile& file : result->found) {
          if (enough) break;
          ++totals.found;
          events.found(file);
          enough = request.first;
        }
        for (const auto& [locator, error] : result->unreadable) {
          ++totals.unreadable;
          totals.key_needed |= error.kind() == ErrorKind::needs_key;
          events.unreadable(locator, error);
        }
      };
    });
  }
  work.finish();
  return totals;
}

}  // namespace operculum
