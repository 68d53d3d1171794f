#include "task/link_maker.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"

namespace operculum {
namespace {

constexpr std::string_view kLeadsOut = "lead out of the output folder";

}  // namespace

void LinkMaker::add(const Entry& entry, const std::string& path, const OutputNames::Given& given,
                    ContainerPtr container) {
  if (given.replaces) forget(given.path);
  std::string target(entry.link_target());
  Pending link{entry.kind, path, given.path,    target, given.remark, entry.modified, target_.owner_of(entry),
               nullptr,    "",   given.replaces};
  if (entry.kind == EntryKind::hard_link) {
    link.container = std::move(container);
    link.target_in_container = target;
    // Paths of the same container: what stands in front of the entry's own path belongs in front of the
    // target, too.
    link.target = path.substr(0, path.size() - std::min(path.size(), entry.path.size())) + target;
  } else {
    tree_.add(link.output, target);
  }
  by_output_[link.output] = pending_.size();
  pending_.push_back(std::move(link));
}

void LinkMaker::forget(const std::string& output) {
  auto found = by_output_.find(output);
  if (found == by_output_.end()) return;
  pending_[found->second].output.clear();
  tree_.remove(output);
  by_output_.erase(found);
}

void LinkMaker::make_all() {
  for (Pending& link : pending_) {
    if (link.output.empty()) continue;  // a later entry took its place
    try {
      if (link.kind == EntryKind::symbolic_link) {
        symbolic_link(link);
      } else {
        hard_link(link);
      }
    } catch (const GuardTripped&) {
      throw;
    } catch (const CannotWrite&) {
      throw;
    } catch (const std::exception& thrown) {
      Error error = as_error(thrown);
      log_.failed(link.path, link.output, error);
    }
  }
}

void LinkMaker::symbolic_link(const Pending& link) {
  if (request_.links == LinkRule::none)
    return log_.left_out(link.path, "it is a symbolic link, and --links none was asked for");
  if (link.target.empty() || link.target.find('\0') != std::string::npos)
    return log_.left_out(link.path, "the link's target is empty or cannot be read");
  Leads leads = tree_.where(link.output);
  bool refused = (leads == Leads::out && request_.links != LinkRule::stored) ||
                 (leads == Leads::absolute && request_.links == LinkRule::inside);
  if (refused) {
    return log_.left_out(
        link.path,
        fmt::format("the link leads out of the output folder, to {}; --links stored makes it all the same",
                    escape(link.target)),
        kLeadsOut);
  }
  std::string remark = link.remark;
  if (leads != Leads::inside) {
    remark = fmt::format("{}it leads out of the output folder, to {}; made as stored",
                         remark.empty() ? "" : remark + ", ", escape(link.target));
  }
  if (!make_room(link)) return;
  if (!target_.dry() &&
      !target_.folder().make_symbolic_link(link.output, link.target, link.modified, link.owner))
    return log_.kept(link.path, link.output);
  log_.emit({.kind = UnpackEvent::Kind::link,
             .path = link.path,
             .output = link.output,
             .message = remark,
             .cause = leads != Leads::inside ? kLeadsOut : std::string_view(),
             .link_target = link.target});
}

void LinkMaker::hard_link(const Pending& link) {
  std::string target = names_.given_to(target_.beneath(link.target));
  bool usable = !target.empty() && target != link.output && !log_.not_written(target);
  if (!usable) return copy_instead(link);
  if (!make_room(link)) return;
  if (!target_.dry() && !target_.folder().make_hard_link(link.output, target))
    return log_.kept(link.path, link.output);
  log_.emit({.kind = UnpackEvent::Kind::link,
             .path = link.path,
             .output = link.output,
             .message = link.remark,
             .link_target = target,
             .hard_link = true});
}

/// Makes room when replacing was asked for; false when something is there and stays.
bool LinkMaker::make_room(const Pending& link) {
  bool there = link.replaces_earlier ? !target_.dry() && target_.folder().exists(link.output)
                                     : target_.already_there(link.output);
  if (!there) return true;
  if (request_.existing != Existing::replace && !link.replaces_earlier) {
    log_.kept(link.path, link.output);
    return false;
  }
  if (!target_.dry()) target_.folder().remove_file(link.output);
  return true;
}

/// The last file of that path in a container, whose paths are looked through once.
std::optional<std::size_t> LinkMaker::last_named(Container& container, const std::string& path) {
  if (indexed_ != &container) {
    indexed_ = &container;
    index_.clear();
    std::span<const Entry> entries = container.entries();
    for (std::size_t i = 0; i < entries.size(); ++i) {
      if (entries[i].has_data()) index_[entries[i].path] = i;
    }
  }
  auto found = index_.find(path);
  return found == index_.end() ? std::nullopt : std::optional(found->second);
}

/// A hard link whose target was not unpacked becomes a file of its own.
void LinkMaker::copy_instead(const Pending& link) {
  std::span<const Entry> entries = link.container->entries();
  std::optional<std::size_t> index = last_named(*link.container, link.target_in_container);
  if (!index)
    return log_.left_out(link.path, fmt::format("its hard link names {}, which is not in the container",
                                                escape(link.target_in_container)));
  if (request_.existing == Existing::keep && target_.already_there(link.output))
    return log_.kept(link.path, link.output);
  UnpackEvent event{UnpackEvent::Kind::file, link.path, link.output, entries[*index].size, "", link.remark};
  if (target_.dry()) return log_.emit(std::move(event));
  FileJob job{std::move(event), target_.metadata_of(entries[*index]), request_.existing,
              entries[*index].is(Entry::sparse)};
  with_errors(job, progress_, [&] {
    StreamPtr data = link.container->content(*index)->stream();
    target_.writer().write(job, *data);
  });
  log_.emit(std::move(job.event));
}

}  // namespace operculum
