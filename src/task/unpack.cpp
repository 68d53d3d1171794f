#include "task/unpack.h"

#include <fmt/format.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>

#include <algorithm>

#include "base/ordered_work.h"
#include "base/text.h"
#include "task/link_maker.h"
#include "task/name_template.h"
#include "task/refuse_kinds.h"
#include "task/room_needed.h"
#include "task/walk.h"

namespace operculum {
namespace {

/// Larger entries, in bytes, are decoded on a thread of their own while they are written.
constexpr std::uint64_t kReadAheadFrom = 8 << 20;
constexpr std::uint64_t kSmall =
    64 << 10;  // bytes: a file of so many takes less time than waking up a thread

class Unpacker {
 public:
  Unpacker(const Place& place, const UnpackRequest& request, OpenContext& context, Progress& progress,
           const UnpackSink& sink)
      : place_(place),
        request_(request),
        context_(context),
        progress_(progress),
        meter_(context.limits),
        names_(request.names,
               request.lower_case ? OutputNames::Letters::small : OutputNames::Letters::as_stored),
        name_as_(request.name_as.empty() ? nullptr : std::make_unique<NameTemplate>(request.name_as)),
        log_(work_, request, sink),
        target_(request, place.inside, meter_, progress),
        links_(target_, names_, request, log_, progress),
        work_(request.jobs) {}

  UnpackTotals run() {
    if (place_.is_container()) {
      walk_all();
    } else {
      unpack_single();
    }
    work_.finish();
    links_.make_all();
    work_.finish();
    finish_folders();
    if (OutputFolder* used = target_.folder_if_used()) log_.totals.into = used->path();
    return log_.totals;
  }

 private:
  void walk_all() {
    const Layer& layer = place_.layers.back();
    if (layer.container->access() == Access::random && !request_.deep && request_.only_kinds.empty())
      expect_total(*layer.container);
    WalkEvents events;
    events.found = [this](const Found& found) {
      if (progress_.stop || log_.stop()) {
        log_.totals.stopped = true;
        return false;
      }
      take(found);
      return true;
    };
    events.enter = [this](const std::string& path, const Entry&) { return could_hold_wanted(path); };
    events.leave = [this](const std::string& path, Container& container) {
      work_.finish();  // its findings are complete when its entries were read
      for (const Finding& finding : container.findings()) log_.finding(path, finding);
    };
    events.unreadable = [this](const std::string& path, const Error& error) {
      // Damage is the container's; a disk that cannot be read, or memory that is not there, is not.
      bool ours = error.kind() == ErrorKind::io || error.kind() == ErrorKind::limit_exceeded;
      log_.emit({.kind = ours ? UnpackEvent::Kind::fault : UnpackEvent::Kind::warning,
                 .path = path,
                 .message = fmt::format("cannot be entered, unpacked as a file: {}", error.what())});
    };
    events.differs = [this](const std::string& path, const Error& error) {
      log_.emit({.kind = UnpackEvent::Kind::fault,
                 .path = path,
                 .message = fmt::format("{}; what came out of it may be damaged", error.what())});
    };
    bool all = request_.selection.everything() && !request_.dry_run;
    walk(place_, context_,
         {.deep = request_.deep,
          .programs = request_.programs,
          .kinds = !request_.only_kinds.empty(),
          .whole = all},
         events);
  }

  /// The place is a single entry, or a file that is no container.
  void unpack_single() {
    Entry plain;
    plain.path = place_.name;
    const Entry* entry = &plain;
    if (place_.entry) entry = place_.entry.get();
    if (entry->has_data() && !place_.content) return;
    std::string path = entry->path;
    if (!entry->has_data()) {
      take_other(*entry, path, place_.layers.back().container, *place_.layers.back().format);
      return;
    }
    Container* container = place_.layers.empty() ? nullptr : place_.layers.back().container.get();
    if (request_.keep_packed && container != nullptr) {
      std::span<const Entry> all = container->entries();
      auto own =
          std::find_if(all.begin(), all.end(), [&](const Entry& one) { return one.path == entry->path; });
      packed_file(*entry, path, *container, static_cast<std::size_t>(own - all.begin()),
                  OutputNames::Duplicates::numbered);
    } else {
      file(*entry, path, wanted_name(*entry, path, container), place_.content, nullptr,
           OutputNames::Duplicates::numbered, 0);
    }
    work_.finish();
    for (const Layer& layer : place_.layers) {
      for (const Finding& finding : layer.container->findings()) log_.finding("", finding);
    }
  }

  void expect_total(Container& container) {
    std::uint64_t total = 0;
    for (const Entry& entry : container.entries()) {
      if (entry.has_data() && entry.size_known() && request_.selection.wants(entry.path)) total += entry.size;
    }
    progress_.total_bytes = total;
  }

  /// Whether a nested container may hold something that is wanted; when only its own path is, it is unpacked
  /// as a file.
  bool could_hold_wanted(const std::string& path) const {
    const std::string& inside = request_.selection.inside;
    return inside.empty() || path.starts_with(inside) || inside.starts_with(path);
  }

  void take(const Found& found) {
    if (!request_.selection.wants(found.path)) return;
    const Entry& entry = found.entry;
    if (!request_.only_kinds.empty() && !is_kind_of(found.kind, request_.only_kinds)) return;
    if (entry.kind == EntryKind::file && request_.keep_packed) {
      packed_file(entry, found.path, found.container, found.index, duplicates_in(found.format));
    } else if (entry.kind == EntryKind::file) {
      file(entry, found.path, wanted_name(entry, found.path, &found.container), found.content, found.stream,
           duplicates_in(found.format), found.lane);
    } else {
      take_other(entry, found.path, found.container.shared_from_this(), found.format);
    }
  }

  static OutputNames::Duplicates duplicates_in(const Format& format) {
    return format.later_replaces ? OutputNames::Duplicates::replace : OutputNames::Duplicates::numbered;
  }

  void take_other(const Entry& entry, const std::string& path, ContainerPtr container, const Format& format) {
    switch (entry.kind) {
      case EntryKind::folder:
        folder(entry, path);
        return;
      case EntryKind::symbolic_link:
      case EntryKind::hard_link:
        link(entry, path, std::move(container), duplicates_in(format));
        return;
      default:
        device(entry, path);
        return;
    }
  }

  void folder(const Entry& entry, const std::string& path) {
    if (request_.flat) return;
    std::string_view stored = target_.beneath(path);
    if (stored == ".") {
      root_metadata_ = target_.metadata_of(entry);
      return;
    }
    OutputNames::Given given = names_.folder(stored);
    if (given.path.empty())
      return log_.left_out(path, given.remark.empty() ? "its name leaves nothing to use" : given.remark);
    bool made = false;
    try {
      if (!target_.dry()) made = target_.folder().make_folder(given.path);
    } catch (const CannotWrite&) {
      throw;
    } catch (const std::exception& thrown) {
      Error error = as_error(thrown);
      return log_.failed(path, given.path, error);
    }
    if (made)
      folders_.push_back({given.path, target_.metadata_of(entry)});  // a person's own stay as they are
    count_lost(entry, given.path);
    log_.emit({UnpackEvent::Kind::folder, path, given.path, 0, "", given.remark});
  }

  void link(const Entry& entry, const std::string& path, ContainerPtr container,
            OutputNames::Duplicates duplicates) {
    OutputNames::Given given = names_.file(target_.beneath(path), duplicates);
    if (given.path.empty())
      return log_.left_out(path, given.remark.empty() ? "its name leaves nothing to use" : given.remark);
    links_.add(entry, path, given, std::move(container));
  }

  void device(const Entry& entry, const std::string& path) {
    if (!request_.devices)
      return log_.left_out(path, fmt::format("it is a {}; --devices makes those", name_of(entry.kind)));
    OutputNames::Given given = names_.file(target_.beneath(path), OutputNames::Duplicates::replace);
    if (given.path.empty()) return log_.left_out(path, given.remark);
    std::uint32_t type = entry.kind == EntryKind::character_device ? S_IFCHR
                         : entry.kind == EntryKind::block_device   ? S_IFBLK
                         : entry.kind == EntryKind::fifo           ? S_IFIFO
                                                                   : S_IFSOCK;
    std::uint64_t device = entry.extra ? makedev(entry.extra->device_major, entry.extra->device_minor) : 0;
    try {
      if (!target_.dry() &&
          !target_.folder().make_node(given.path, type | target_.metadata_of(entry).mode, device))
        return log_.kept(path, given.path);
    } catch (const CannotWrite&) {
      throw;
    } catch (const std::exception& thrown) {
      Error error = as_error(thrown);
      return log_.failed(path, given.path, error);
    }
    log_.emit({UnpackEvent::Kind::device, path, given.path, 0, "", given.remark});
  }

  // ---- files

  /// The output name of a file before it is made safe.
  std::string wanted_name(const Entry& entry, const std::string& path, Container* container) {
    if (!name_as_ || container == nullptr) return std::string(target_.beneath(path));
    return name_as_->name_for(entry, path, ++files_named_, *container, place_.layers.back().name);
  }

  void packed_file(const Entry& entry, const std::string& path, Container& container, std::size_t index,
                   OutputNames::Duplicates duplicates) {
    SourcePtr packed = index < container.entries().size() ? container.packed_run(index) : nullptr;
    if (!packed) return log_.left_out(path, "its packed bytes do not lie in one run, or come only forwards");
    Entry as_it_lies;
    as_it_lies.path = entry.path;
    as_it_lies.size = packed->size();
    as_it_lies.modified = entry.modified;
    as_it_lies.mode = entry.mode;
    file(as_it_lies, path, wanted_name(entry, path, &container), make_content(packed), nullptr, duplicates,
         0);
  }

  void file(const Entry& entry, const std::string& path, const std::string& wanted, const ContentPtr& content,
            Stream* stream, OutputNames::Duplicates duplicates, std::size_t lane) {
    OutputNames::Given given = names_.file(wanted, duplicates);
    if (given.path.empty())
      return log_.left_out(path, given.remark.empty() ? "its name leaves nothing to use" : given.remark);
    count_lost(entry, given.path);
    Existing existing = request_.existing;
    bool ours = false;
    if (given.replaces) {
      work_.finish();
      links_.forget(given.path);
      ours = written_.find(given.path) != 0;
      if (ours) existing = Existing::replace;
    }
    if (existing == Existing::keep && target_.already_there(given.path)) return log_.kept(path, given.path);
    if (duplicates == OutputNames::Duplicates::replace) written_.mark(given.path, 1);
    UnpackEvent event{
        UnpackEvent::Kind::file, path, given.path, entry.size_known() ? entry.size : 0, "", given.remark};
    if (target_.dry()) {
      if (existing == Existing::rename && target_.already_there(given.path))
        event.message = "something is there; it would get a numbered name";
      return log_.emit(std::move(event));
    }
    FileJob job{std::move(event), target_.metadata_of(entry), existing, entry.is(Entry::sparse), ours};
    if (content) {
      bool large = entry.size_known() && entry.size >= kReadAheadFrom;
      bool small = entry.size_known() && entry.size <= kSmall && lane == 0;
      auto work = [this, job = std::move(job), content, large]() mutable {
        with_errors(job, progress_, [&] {
          StreamPtr data = content->stream();
          if (large) {
            target_.writer().write_large(job, std::move(data));
          } else {
            target_.writer().write(job, *data);
          }
        });
        return log_.report_of(std::move(job.event));
      };
      small ? work_.submit_small(std::move(work)) : work_.submit(std::move(work), lane);
    } else {
      write_forward(std::move(job), *stream);
    }
  }

  /// In a forward walk the bytes must be taken now; small files are written by another thread.
  void write_forward(FileJob job, Stream& stream) {
    FileWriter::First first;
    with_errors(job, progress_, [&] {
      first = target_.writer().read_first(stream, job.event.size);
      if (!first.complete) target_.writer().write_rest(job, first.bytes, stream);
    });
    if (!first.complete || job.event.kind == UnpackEvent::Kind::failed) {
      work_.report(log_.report_of(std::move(job.event)));
      return;
    }
    bool small = first.bytes.size() <= kSmall;
    auto work = [this, job = std::move(job), bytes = std::move(first.bytes)]() mutable {
      with_errors(job, progress_, [&] { target_.writer().write_whole(job, bytes); });
      return log_.report_of(std::move(job.event));
    };
    small ? work_.submit_small(std::move(work)) : work_.submit(std::move(work));
  }

  // ---- the end

  void finish_folders() {
    if (target_.dry()) return;
    for (auto it = folders_.rbegin(); it != folders_.rend(); ++it)
      target_.folder().finish_folder(it->path, it->metadata);
    OutputFolder* used = target_.folder_if_used();
    if (used != nullptr && used->made() && root_metadata_) used->finish_folder("", *root_metadata_);
  }

  void count_lost(const Entry& entry, const std::string& path) {
    if (target_.loses_mode_bits(entry)) ++log_.totals.modes_cut;
    if (request_.names == NameRules::here && !is_portable(path)) ++log_.totals.not_portable;
  }

  struct FinishedFolder {
    std::string path;
    FileMetadata metadata;
  };

  const Place& place_;
  const UnpackRequest& request_;
  OpenContext& context_;
  Progress& progress_;
  Meter meter_;
  OutputNames names_;
  std::unique_ptr<const NameTemplate> name_as_;
  std::uint64_t files_named_ = 0;
  std::vector<FinishedFolder> folders_;
  std::optional<FileMetadata>
      root_metadata_;  // where the container says what the folder of everything is like
  TextMarks written_;  // for containers whose later entries replace earlier ones
  UnpackLog log_;
  UnpackTarget target_;
  LinkMaker links_;
  OrderedWork work_;  // last: its threads use the rest
};

}  // namespace

UnpackTotals unpack(const Place& place, const UnpackRequest& request, OpenContext& context,
                    Progress& progress, const UnpackSink& sink) {
  if (!request.refuse_kinds.empty()) refuse_kinds(place, request, context, progress);
  try {
    return Unpacker(place, request, context, progress, sink).run();
  } catch (const CannotWrite& error) {
    throw with_room_needed(error, progress);
  }
}

}  // namespace operculum
