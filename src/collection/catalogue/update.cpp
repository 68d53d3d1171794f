#include "collection/catalogue/update.h"

#include <sys/stat.h>

#include <algorithm>
#include <atomic>

#include "base/ordered_work.h"
#include "base/parallel.h"
#include "base/text.h"
#include "collection/catalogue/writer.h"
#include "collection/worker_pool.h"
#include "io/digest.h"
#include "task/verify.h"

namespace operculum {
namespace {

constexpr std::size_t kBatch = 20'000;    // entries written at a time
constexpr std::size_t kMostFaults = 100;  // told of one file
constexpr std::int64_t kNanoseconds = 1'000'000'000;

/// What the catalogue knows of a file.
struct Known {
  std::int64_t id = 0;
  CatalogueFile file;
  bool done = false;  // it was read to its end
  bool verified = false;
  bool digests = false;
  bool gone = false;
};

/// The rows of the catalogue in the order of their paths, one at a time.
class KnownFiles {
 public:
  explicit KnownFiles(Database& database)
      : rows_(database.prepare(
            "SELECT id, path, size, modified, inode, state <> 'reading', verified IS NOT NULL, digests, "
            "gone_at IS NOT NULL FROM file ORDER BY path")) {
    next();
  }
  const Known* now() const { return there_ ? &known_ : nullptr; }
  void next() {
    there_ = rows_.step();
    if (!there_) return;
    known_.id = rows_.number(0);
    known_.file = {rows_.text(1), rows_.size(2), rows_.number(3),
                   static_cast<std::uint64_t>(rows_.number(4))};
    known_.done = rows_.number(5) != 0;
    known_.verified = rows_.number(6) != 0;
    known_.digests = rows_.number(7) != 0;
    known_.gone = rows_.number(8) != 0;
  }

 private:
  Statement rows_;
  Known known_;
  bool there_ = false;
};

/// A file that is to be read, verified or both.
struct Job {
  CatalogueFile file;
  std::int64_t row = 0;  // once it is read; from the beginning where it is only to be verified
  bool faulty = false;   // that was told when it was read
};

/// Lists one file into the catalogue.
class Reader {
 public:
  Reader(const CatalogueFile& file, const CatalogueRequest& request, Worker& worker, Progress& progress,
         CatalogueWriter& writer)
      : file_(file),
        request_(request),
        worker_(worker),
        context_(worker.context()),
        progress_(progress),
        writer_(writer) {}

  CatalogueOutcome run(std::int64_t row) {
    row_ = row;
    outcome_.digests = request_.digests;
    try {
      Place place = resolve(file_.path, context_, Step::into);
      look_at(place);
    } catch (const std::exception& thrown) {
      Error error = as_error(thrown);
      outcome_.state = outcome_.state.empty() || outcome_.entries == 0 ? kUnreadable : kDamaged;
      outcome_.message = error.what();
    }
    flush();
    if (outcome_.state == kListed && !outcome_.faults.empty()) outcome_.state = kDamaged;
    if (outcome_.message.empty() && !outcome_.faults.empty())
      outcome_.message = outcome_.faults.front().second;
    return std::move(outcome_);
  }

 private:
  void look_at(const Place& place) {
    if (!place.layers.empty()) {
      outcome_.state = kListed;
      outcome_.format = place.layers.front().format->id;
      outcome_.kind = "container";
    }
    if (place.layers.empty()) {
      Probe probe = make_probe(*place.content, place.name);
      KindReader::Told told = worker_.kinds().tell(probe, place.name);
      outcome_.state = kPlain;
      outcome_.kind = told.kind;
      outcome_.media_type = told.media_type;
      return;
    }
    meter_.emplace(context_.limits);
    if (place.is_container()) {
      walk_all(place);
    } else if (place.entry) {
      add(*place.entry, place.name, place.layers.back().format->id, 0, place.content, nullptr);
    }
  }

  void walk_all(const Place& place) {
    WalkEvents events;
    events.found = [&](const Found& found) {
      add(found.entry, found.path, found.format.id, found.depth, found.content, found.stream);
      return !progress_.stop;
    };
    bool parts = holds_parts(*place.layers.back().format);
    events.enter = [&](const std::string& path, const Entry& entry) {
      return parts || may_be_container(base_name(path), entry.size, request_.enter, context_);
    };
    events.container = [&](const Found& found) {
      add(found.entry, found.path, found.format.id, found.depth, found.content, nullptr);
    };
    events.leave = [&](const std::string& path, Container& container) {
      for (const Finding& finding : container.findings()) {
        if (finding.level == Finding::Level::fault) fault(path, finding.text);
      }
    };
    events.unreadable = [&](const std::string& path, const Error& error) {
      if (names_a_container(base_name(path), context_))
        fault(path, error.what());  // others only began like one
    };
    walk(place, context_, {.deep = true, .programs = request_.programs}, events);
  }

  void fault(const std::string& path, const std::string& sentence) {
    if (outcome_.faults.size() < kMostFaults) outcome_.faults.emplace_back(path, sentence);
  }

  void add(const Entry& entry, const std::string& path, std::string_view format, std::size_t depth,
           const ContentPtr& content, Stream* stream) {
    CatalogueEntry out{
        path, entry.kind, Entry::kUnknownSize, Entry::kUnknownSize, entry.modified, depth, format, {}, {}};
    if (entry.has_data()) {
      out.size = entry.size;
      out.stored = entry.stored_size;
      if (entry.is(Entry::has_crc)) out.crc32 = entry.crc32;
      if (request_.digests) take_digest(out, content, stream);
      if (out.size != Entry::kUnknownSize) outcome_.unpacked += out.size;
    }
    ++outcome_.entries;
    ++progress_.entries;
    batch_.push_back(std::move(out));
    if (batch_.size() >= kBatch) flush();
  }

  void take_digest(CatalogueEntry& out, const ContentPtr& content, Stream* stream) {
    try {
      StreamPtr own = stream == nullptr ? content->stream() : nullptr;
      Stream& bytes = own ? *own : *stream;
      StreamSums sums = sums_of_stream(bytes, Sums::both, [this](std::uint64_t count) {
        meter_->add(count);
        progress_.bytes += count;
      });
      out.size = sums.size;
      out.crc32 = sums.crc32;
      out.sha256 = from_hex(sums.sha256).value_or(Bytes());
    } catch (const GuardTripped&) {
      throw;
    } catch (const std::exception& thrown) {
      fault(out.path, as_error(thrown).what());
    }
  }

  void flush() {
    if (!batch_.empty()) writer_.add(row_, batch_);
    batch_.clear();
  }

  const CatalogueFile& file_;
  const CatalogueRequest& request_;
  Worker& worker_;
  OpenContext& context_;
  Progress& progress_;
  CatalogueWriter& writer_;
  std::int64_t row_ = 0;
  std::optional<Meter> meter_;
  CatalogueOutcome outcome_;
  std::vector<CatalogueEntry> batch_;
};

class Updater {
 public:
  Updater(Database& database, const std::vector<std::string>& places, const CatalogueRequest& request,
          const OpenContext& context, Progress& progress, const CatalogueSink& sink)
      : database_(database),
        places_(places),
        request_(request),
        workers_(context),
        progress_(progress),
        sink_(sink),
        writer_(database) {}

  CatalogueTotals run(std::vector<std::string> files) {
    std::sort(files.begin(), files.end());
    files.erase(std::unique(files.begin(), files.end()), files.end());
    std::vector<Job> jobs = changed(files);
    read_all(jobs);
    if (request_.verify) verify_all(jobs);
    writer_.commit();
    totals_.stopped = progress_.stop;
    return totals_;
  }

 private:
  /// Holds what is on disk against what is known, both in the order of their paths.
  std::vector<Job> changed(const std::vector<std::string>& files) {
    std::vector<Job> jobs;
    std::vector<std::int64_t> gone;
    KnownFiles known(database_);
    auto pass_until = [&](const std::string* path) {
      for (; known.now() != nullptr && (path == nullptr || known.now()->file.path < *path); known.next()) {
        const Known& row = *known.now();
        if (!row.gone && lies_in_places(row.file.path) && request_.shard.has(row.file.path))
          gone.push_back(row.id);
      }
    };
    for (const std::string& path : files) {
      pass_until(&path);
      const Known* row = known.now() != nullptr && known.now()->file.path == path ? known.now() : nullptr;
      if (request_.shard.has(path)) look_at(path, row, jobs, gone);
      if (row != nullptr) known.next();
    }
    pass_until(nullptr);
    totals_.gone = gone.size();
    if (!gone.empty()) writer_.mark_gone(gone);
    return jobs;
  }

  void look_at(const std::string& path, const Known* known, std::vector<Job>& jobs,
               std::vector<std::int64_t>& gone) {
    struct stat status {};
    if (stat(path.c_str(), &status) != 0) {
      if (known != nullptr && !known->gone) gone.push_back(known->id);
      return;
    }
    ++totals_.files;
    CatalogueFile file{path, static_cast<std::uint64_t>(status.st_size),
                       status.st_mtim.tv_sec * kNanoseconds + status.st_mtim.tv_nsec, status.st_ino};
    bool same = known != nullptr && known->done && !known->gone && known->file.size == file.size &&
                known->file.modified == file.modified && known->file.inode == file.inode &&
                (known->digests || !request_.digests) && !request_.anew;
    if (!same) {
      jobs.push_back({std::move(file)});
      return;
    }
    ++totals_.unchanged;
    if (request_.verify && !known->verified) jobs.push_back({std::move(file), known->id});
  }

  bool lies_in_places(const std::string& path) const {
    return std::any_of(places_.begin(), places_.end(),
                       [&](const std::string& place) { return place == "/" || lies_in(path, place); });
  }

  void read_all(std::vector<Job>& jobs) {
    OrderedWork work(request_.jobs);
    for (Job& job : jobs) {
      if (progress_.stop) break;
      if (job.row == 0) work.submit([&]() { return read(job); });
    }
    work.finish();
  }

  /// Reads a file on some thread; what is counted and told comes in order.
  OrderedWork::Report read(Job& job) {
    if (progress_.stop) return [] {};
    WorkerPool::Lease worker = workers_.lease();
    job.row = writer_.begin(job.file);
    CatalogueOutcome outcome = Reader(job.file, request_, *worker, progress_, writer_).run(job.row);
    if (progress_.stop) return [] {};  // the row stays as one that was begun
    writer_.finish(job.row, outcome);
    return [this, outcome = std::move(outcome), &job] {
      ++totals_.read;
      totals_.entries += outcome.entries;
      if (outcome.state != kUnreadable && outcome.state != kDamaged) return;
      job.faulty = true;
      ++totals_.faulty;
      sink_(job.file.path, outcome.message);
    };
  }

  /// Threads of their own: verify() has work of its own done on those of OrderedWork.
  void verify_all(std::vector<Job>& jobs) {
    std::vector<std::string> wrong(jobs.size());
    for_each_of(jobs.size(), request_.jobs, [&](std::size_t i) {
      if (progress_.stop) return;
      WorkerPool::Lease worker = workers_.lease();
      wrong[i] = verify_file(jobs[i].file.path, jobs[i].row, worker->context());
    });
    totals_.verified = progress_.stop ? 0 : jobs.size();
    for (std::size_t i = 0; i < jobs.size(); ++i) {
      if (wrong[i].empty() || jobs[i].faulty) continue;
      ++totals_.faulty;
      sink_(jobs[i].file.path, wrong[i]);
    }
  }

  /// Returns what is wrong; nothing for a whole container, and for a file that is none.
  std::string verify_file(const std::string& path, std::int64_t row, OpenContext& context) {
    std::string message;
    bool key_needed = false;
    try {
      Place place = resolve(path, context, Step::into);
      if (place.layers.empty()) return "";
      VerifyTotals totals =
          verify(place, {.deep = true, .programs = request_.programs, .jobs = request_.jobs}, context,
                 progress_, [&](const Fault& fault) {
                   if (fault.level != Finding::Level::fault) return;
                   if (message.empty())
                     message = fault.path.empty() ? fault.message : escape(fault.path) + ": " + fault.message;
                 });
      key_needed = totals.key_needed;
    } catch (const std::exception& thrown) {
      Error error = as_error(thrown);
      message = error.what();
      key_needed = error.kind() == ErrorKind::needs_key;
    }
    if (progress_.stop) return "";
    writer_.verified(row, message.empty() ? "whole" : key_needed ? "key needed" : "damaged", message);
    return message;
  }

  Database& database_;
  const std::vector<std::string>& places_;
  const CatalogueRequest& request_;
  WorkerPool workers_;
  Progress& progress_;
  const CatalogueSink& sink_;
  CatalogueWriter writer_;
  CatalogueTotals totals_;
};

}  // namespace

/// FNV-1a: the same on every machine and in every run.
bool Shard::has(std::string_view path) const {
  if (count <= 1) return true;
  std::uint64_t hash = 0xcbf29ce484222325;
  for (char c : path) hash = (hash ^ static_cast<unsigned char>(c)) * 0x100000001b3;
  return (hash ^ (hash >> 32)) % count + 1 == index;
}

CatalogueTotals update_catalogue(Database& database, const std::vector<std::string>& places,
                                 std::vector<std::string> files, const CatalogueRequest& request,
                                 const OpenContext& context, Progress& progress, const CatalogueSink& sink) {
  return Updater(database, places, request, context, progress, sink).run(std::move(files));
}

}  // namespace operculum
