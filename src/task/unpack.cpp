#include "task/unpack.h"

#include <fmt/format.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>

#include <algorithm>
#include <thread>
#include <unordered_set>

#include "base/text.h"
#include "task/file_writer.h"
#include "task/ordered_work.h"
#include "task/output_names.h"
#include "task/walk.h"

namespace operculum {
namespace {

/// Larger entries, in bytes, are decoded on a thread of their own while they are written.
constexpr std::uint64_t kReadAheadFrom = 8 << 20;

std::uint32_t process_umask() {
  std::uint32_t mask = umask(022);
  umask(static_cast<mode_t>(mask));
  return mask;
}

/// Where a link leads from a path beneath the output folder.
enum class Leads { inside, absolute, out };

Leads where_leads(const std::string& path, std::string_view target) {
  if (target.starts_with('/')) return Leads::absolute;
  std::size_t depth = static_cast<std::size_t>(std::count(path.begin(), path.end(), '/'));
  for (std::string_view part : split(target, '/')) {
    if (part == "..") {
      if (depth == 0) return Leads::out;
      --depth;
    } else if (!part.empty() && part != ".") {
      ++depth;
    }
  }
  return Leads::inside;
}

/// A link seen on the walk; links are made when everything else is there.
struct PendingLink {
  EntryKind kind;
  std::string path, output, target;  // for a hard link `target` is a stored path, through nested containers
  std::string remark;
  Timestamp modified;
  ContainerPtr container;  // of a hard link: where its data can be had when its target is not unpacked
  std::string target_in_container;
};

class Unpacker {
 public:
  Unpacker(const Place& place, const UnpackRequest& request, OpenContext& context, Progress& progress,
           const UnpackSink& sink)
      : place_(place),
        request_(request),
        context_(context),
        progress_(progress),
        sink_(sink),
        meter_(context.limits, place.file_source->size()),
        names_(request.names),
        default_mode_(0666 & ~process_umask()),
        work_(request.jobs != 0 ? request.jobs : std::max(1u, std::thread::hardware_concurrency())) {
    struct stat status {};
    fresh_ = stat(request.into.c_str(), &status) != 0;
    if (!request.dry_run) {
      folder_.emplace(request.into);
      writer_.emplace(*folder_, request, meter_, progress);
    }
    std::size_t slash = place.inside.rfind('/');
    if (slash != std::string::npos) base_ = place.inside.substr(0, slash + 1);
  }

  UnpackTotals run() {
    if (place_.is_container()) {
      walk_all();
    } else {
      unpack_single();
    }
    work_.finish();
    make_links();
    finish_folders();
    return totals_;
  }

 private:
  void walk_all() {
    const Layer& layer = place_.layers.back();
    if (layer.container->access() == Access::random && !request_.deep) expect_total(*layer.container);
    WalkEvents events;
    events.found = [this](const Found& found) {
      if (progress_.stop || stop_) {
        totals_.stopped = true;
        return false;
      }
      take(found);
      return true;
    };
    events.enter = [this](const std::string& path, const Entry&) { return could_hold_wanted(path); };
    events.leave = [this](const std::string& path, Container& container) {
      work_.finish();  // its findings are complete when its entries were read
      for (const Finding& finding : container.findings()) tell_finding(path, finding);
    };
    events.unreadable = [this](const std::string& path, const Error& error) {
      emit({UnpackEvent::Kind::warning, path, "", 0, "",
            fmt::format("cannot be entered, unpacked as a file: {}", error.what())});
    };
    walk(layer, place_.layers.size() == 1 ? place_.file_source : nullptr, context_, {request_.deep}, events);
  }

  /// The place is a single entry, or a file that is no container.
  void unpack_single() {
    Entry plain;
    plain.path = place_.name;
    const Entry* entry = &plain;
    if (place_.entry) entry = &place_.layers.back().container->entries()[*place_.entry];
    if (entry->has_data() && !place_.content) return;
    std::string path = entry->path;
    if (!entry->has_data()) {
      take_other(*entry, path, place_.layers.back().container, *place_.layers.back().format);
      return;
    }
    file(*entry, path, place_.content, nullptr, OutputNames::Duplicates::numbered);
    work_.finish();
    for (const Layer& layer : place_.layers) {
      for (const Finding& finding : layer.container->findings()) tell_finding("", finding);
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
    if (entry.kind == EntryKind::file) {
      auto duplicates =
          found.format.later_replaces ? OutputNames::Duplicates::replace : OutputNames::Duplicates::numbered;
      file(entry, found.path, found.content, found.stream, duplicates);
    } else {
      take_other(entry, found.path, found.container.shared_from_this(), found.format);
    }
  }

  std::string_view beneath_base(const std::string& path) const {
    std::string_view rest = path;
    if (rest.starts_with(base_)) rest.remove_prefix(base_.size());
    return request_.flat ? base_name(rest) : rest;
  }

  void take_other(const Entry& entry, const std::string& path, ContainerPtr container, const Format&) {
    switch (entry.kind) {
      case EntryKind::folder:
        folder(entry, path);
        return;
      case EntryKind::symbolic_link:
      case EntryKind::hard_link:
        link(entry, path, std::move(container));
        return;
      default:
        device(entry, path);
        return;
    }
  }

  void folder(const Entry& entry, const std::string& path) {
    if (request_.flat) return;
    std::string_view stored = beneath_base(path);
    if (stored == ".") {
      folders_.push_back({"", metadata_of(entry)});
      return;
    }
    OutputNames::Given given = names_.folder(stored);
    if (given.path.empty())
      return left_out(path, given.remark.empty() ? "its name leaves nothing to use" : given.remark);
    try {
      if (folder_) folder_->make_folder(given.path);
    } catch (const Error& error) {
      return failed(path, given.path, error);
    }
    folders_.push_back({given.path, metadata_of(entry)});
    count_portable(given.path);
    emit({UnpackEvent::Kind::folder, path, given.path, 0, "", given.remark});
  }

  void link(const Entry& entry, const std::string& path, ContainerPtr container) {
    OutputNames::Given given = names_.file(beneath_base(path), OutputNames::Duplicates::replace);
    if (given.path.empty())
      return left_out(path, given.remark.empty() ? "its name leaves nothing to use" : given.remark);
    std::string target(entry.link_target());
    PendingLink pending{entry.kind, path, given.path, target, given.remark, entry.modified, nullptr, ""};
    if (entry.kind == EntryKind::hard_link) {
      pending.container = std::move(container);
      pending.target_in_container = target;
      // Paths of the same container: what stands in front of the entry's own path belongs in front of the
      // target, too.
      pending.target = path.substr(0, path.size() - std::min(path.size(), entry.path.size())) + target;
    }
    links_.push_back(std::move(pending));
  }

  void device(const Entry& entry, const std::string& path) {
    if (!request_.devices)
      return left_out(path, fmt::format("it is a {}; --devices makes those", name_of(entry.kind)));
    OutputNames::Given given = names_.file(beneath_base(path), OutputNames::Duplicates::replace);
    if (given.path.empty()) return left_out(path, given.remark);
    std::uint32_t type = entry.kind == EntryKind::character_device ? S_IFCHR
                         : entry.kind == EntryKind::block_device   ? S_IFBLK
                         : entry.kind == EntryKind::fifo           ? S_IFIFO
                                                                   : S_IFSOCK;
    std::uint64_t device = entry.extra ? makedev(entry.extra->device_major, entry.extra->device_minor) : 0;
    try {
      if (folder_ && !folder_->make_node(given.path, type | metadata_of(entry).mode, device))
        return kept(path, given.path);
    } catch (const Error& error) {
      return failed(path, given.path, error);
    }
    emit({UnpackEvent::Kind::device, path, given.path, 0, "", given.remark});
  }

  // ---- files

  FileMetadata metadata_of(const Entry& entry) const {
    std::uint32_t mode = entry.mode == Entry::kNoMode ? default_mode_ : entry.mode;
    if (entry.kind == EntryKind::folder && entry.mode == Entry::kNoMode) mode |= (mode & 0444) >> 2;
    if (entry.kind == EntryKind::file && !request_.special_modes) mode &= 0777;
    return {mode, entry.modified};
  }

  bool already_there(const std::string& output) const {
    if (fresh_) return false;
    if (folder_) return folder_->exists(output);
    struct stat status {};
    return lstat((request_.into + "/" + output).c_str(), &status) == 0;
  }

  void file(const Entry& entry, const std::string& path, const ContentPtr& content, Stream* stream,
            OutputNames::Duplicates duplicates) {
    OutputNames::Given given = names_.file(beneath_base(path), duplicates);
    if (given.path.empty())
      return left_out(path, given.remark.empty() ? "its name leaves nothing to use" : given.remark);
    count_portable(given.path);
    Existing existing = request_.existing;
    if (given.replaces) {
      work_.finish();
      if (written_.contains(given.path)) existing = Existing::replace;
    }
    if (existing == Existing::keep && already_there(given.path)) return kept(path, given.path);
    if (duplicates == OutputNames::Duplicates::replace) written_.insert(given.path);
    UnpackEvent event{
        UnpackEvent::Kind::file, path, given.path, entry.size_known() ? entry.size : 0, "", given.remark};
    if (!folder_) {
      if (existing == Existing::rename && already_there(given.path))
        event.message = "something is there; it would get a numbered name";
      return emit(std::move(event));
    }
    FileJob job{std::move(event), metadata_of(entry), existing, entry.is(Entry::sparse)};
    if (content) {
      bool large = entry.size_known() && entry.size >= kReadAheadFrom;
      work_.submit([this, job = std::move(job), content, large]() mutable {
        with_errors(job, [&] {
          StreamPtr data = content->stream();
          if (large) {
            writer_->write_large(job, std::move(data));
          } else {
            writer_->write(job, *data);
          }
        });
        return report_of(std::move(job));
      });
    } else {
      write_forward(std::move(job), *stream);
    }
  }

  /// In a forward walk the bytes must be taken now; small files are written by another thread.
  void write_forward(FileJob job, Stream& stream) {
    FileWriter::First first;
    with_errors(job, [&] {
      first = writer_->read_first(stream, job.event.size);
      if (!first.complete) writer_->write_rest(job, first.bytes, stream);
    });
    if (!first.complete || job.event.kind == UnpackEvent::Kind::failed) {
      work_.report(report_of(std::move(job)));
      return;
    }
    work_.submit([this, job = std::move(job), bytes = std::move(first.bytes)]() mutable {
      with_errors(job, [&] { writer_->write_whole(job, bytes); });
      return report_of(std::move(job));
    });
  }

  template <typename Work>
  void with_errors(FileJob& job, Work work) {
    try {
      work();
    } catch (const GuardTripped&) {
      throw;
    } catch (const Error& error) {
      job.event.kind = UnpackEvent::Kind::failed;
      job.event.error = error.kind();
      job.event.message =
          job.event.message.empty() ? error.what() : fmt::format("{}; {}", error.what(), job.event.message);
      job.event.size = 0;
    } catch (const std::bad_alloc&) {
      job.event.kind = UnpackEvent::Kind::failed;
      job.event.error = ErrorKind::limit_exceeded;
      job.event.message = "there is not enough memory to decode it";
    }
    ++progress_.entries;
  }

  // ---- the end

  void make_links() {
    for (PendingLink& link : links_) {
      try {
        if (link.kind == EntryKind::symbolic_link) {
          symbolic_link(link);
        } else {
          hard_link(link);
        }
      } catch (const GuardTripped&) {
        throw;
      } catch (const Error& error) {
        failed(link.path, link.output, error);
      }
    }
    work_.finish();
  }

  void symbolic_link(const PendingLink& link) {
    if (request_.links == LinkRule::none)
      return left_out(link.path, "it is a symbolic link, and --links none was asked for");
    if (link.target.empty() || link.target.find('\0') != std::string::npos)
      return left_out(link.path, "the link's target is empty or cannot be read");
    Leads leads = where_leads(link.output, link.target);
    bool refused = (leads == Leads::out && request_.links != LinkRule::stored) ||
                   (leads == Leads::absolute && request_.links == LinkRule::inside);
    if (refused) {
      return left_out(
          link.path,
          fmt::format("the link leads out of the output folder, to {}; --links stored makes it all the same",
                      escape(link.target)));
    }
    std::string remark = link.remark;
    if (leads != Leads::inside) {
      remark = fmt::format("{}it leads out of the output folder, to {}; made as stored",
                           remark.empty() ? "" : remark + ", ", escape(link.target));
    }
    if (!place_for_link(link)) return;
    if (folder_ && !folder_->make_symbolic_link(link.output, link.target, link.modified))
      return kept(link.path, link.output);
    emit({UnpackEvent::Kind::link, link.path, link.output, 0, "", remark});
  }

  void hard_link(const PendingLink& link) {
    std::string target = names_.given_to(beneath_base(link.target));
    bool usable = !target.empty() && target != link.output && !not_written_.contains(target);
    if (!usable) return copy_instead(link);
    if (!place_for_link(link)) return;
    if (folder_ && !folder_->make_hard_link(link.output, target)) return kept(link.path, link.output);
    emit({UnpackEvent::Kind::link, link.path, link.output, 0, "", link.remark});
  }

  /// Makes room when replacing was asked for; false when something is there and stays.
  bool place_for_link(const PendingLink& link) {
    if (!already_there(link.output)) return true;
    if (request_.existing != Existing::replace) {
      kept(link.path, link.output);
      return false;
    }
    if (folder_) folder_->remove_file(link.output);
    return true;
  }

  /// A hard link whose target was not unpacked becomes a file of its own.
  void copy_instead(const PendingLink& link) {
    std::span<const Entry> entries = link.container->entries();
    std::optional<std::size_t> index;
    for (std::size_t i = 0; i < entries.size(); ++i) {
      if (entries[i].has_data() && entries[i].path == link.target_in_container) index = i;
    }
    if (!index)
      return left_out(link.path, fmt::format("its hard link names {}, which is not in the container",
                                             escape(link.target_in_container)));
    if (request_.existing == Existing::keep && already_there(link.output))
      return kept(link.path, link.output);
    UnpackEvent event{UnpackEvent::Kind::file, link.path, link.output, entries[*index].size, "", link.remark};
    if (!folder_) return emit(std::move(event));
    FileJob job{std::move(event), metadata_of(entries[*index]), request_.existing,
                entries[*index].is(Entry::sparse)};
    with_errors(job, [&] {
      StreamPtr data = link.container->content(*index)->stream();
      writer_->write(job, *data);
    });
    work_.report(report_of(std::move(job)));
  }

  void finish_folders() {
    if (!folder_) return;
    for (auto it = folders_.rbegin(); it != folders_.rend(); ++it)
      folder_->finish_folder(it->path, it->metadata);
  }

  // ---- events

  OrderedWork::Report report_of(FileJob job) {
    return [this, event = std::move(job.event)] { count_and_tell(event); };
  }

  void emit(UnpackEvent event) {
    work_.report([this, event = std::move(event)] { count_and_tell(event); });
  }
  void left_out(const std::string& path, std::string why) {
    emit({UnpackEvent::Kind::left_out, path, "", 0, "", std::move(why)});
  }
  void kept(const std::string& path, const std::string& output) {
    emit({UnpackEvent::Kind::kept, path, output, 0, "",
          "something is there already; --existing replace or rename would write it"});
  }
  void failed(const std::string& path, const std::string& output, const Error& error) {
    emit({UnpackEvent::Kind::failed, path, output, 0, "", error.what(), error.kind()});
  }
  void tell_finding(const std::string& path, const Finding& finding) {
    auto kind = finding.level == Finding::Level::note      ? UnpackEvent::Kind::note
                : finding.level == Finding::Level::warning ? UnpackEvent::Kind::warning
                                                           : UnpackEvent::Kind::fault;
    emit({kind, path, "", 0, "", finding.text});
  }

  void count_and_tell(const UnpackEvent& event) {
    switch (event.kind) {
      case UnpackEvent::Kind::file:
        ++totals_.files;
        totals_.bytes += event.size;
        break;
      case UnpackEvent::Kind::folder:
        ++totals_.folders;
        break;
      case UnpackEvent::Kind::link:
      case UnpackEvent::Kind::device:
        ++totals_.links;
        break;
      case UnpackEvent::Kind::kept:
        ++totals_.kept;
        not_written_.insert(event.output);
        break;
      case UnpackEvent::Kind::left_out:
        ++totals_.left_out;
        break;
      case UnpackEvent::Kind::failed:
        ++totals_.failed;
        totals_.key_needed |= event.error == ErrorKind::needs_key;
        not_written_.insert(event.output);
        if (!request_.keep_going) stop_ = true;
        break;
      case UnpackEvent::Kind::fault:
        ++totals_.faults;
        break;
      default:
        break;
    }
    sink_(event);
  }

  void count_portable(const std::string& path) {
    if (request_.names == NameRules::here && !is_portable(path)) ++totals_.not_portable;
  }

  struct FinishedFolder {
    std::string path;
    FileMetadata metadata;
  };

  const Place& place_;
  const UnpackRequest& request_;
  OpenContext& context_;
  Progress& progress_;
  const UnpackSink& sink_;
  Meter meter_;
  OutputNames names_;
  std::uint32_t default_mode_;
  bool fresh_ = false;                  // nothing was in the output folder before
  std::optional<OutputFolder> folder_;  // empty in a dry run, like the next
  std::optional<FileWriter> writer_;
  std::string base_;  // stored folders above what was named; left out of output paths
  UnpackTotals totals_;
  std::atomic<bool> stop_{false};
  std::vector<PendingLink> links_;
  std::vector<FinishedFolder> folders_;
  std::unordered_set<std::string> written_;      // for containers whose later entries replace earlier ones
  std::unordered_set<std::string> not_written_;  // kept or failed
  OrderedWork work_;                             // last: its threads use the rest
};

}  // namespace

UnpackTotals unpack(const Place& place, const UnpackRequest& request, OpenContext& context,
                    Progress& progress, const UnpackSink& sink) {
  return Unpacker(place, request, context, progress, sink).run();
}

}  // namespace operculum
