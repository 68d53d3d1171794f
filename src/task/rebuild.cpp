#include "task/rebuild.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "base/path_parts.h"
#include "base/text.h"
#include "task/files_beside.h"
#include "task/new_file.h"
#include "task/output_place.h"
#include "task/rebuild_changes.h"
#include "task/rebuild_check.h"
#include "task/rebuild_layers.h"
#include "task/rebuild_sums.h"

namespace operculum {
namespace {

class Rebuild {
 public:
  Rebuild(const RebuildRequest& request, OpenContext& context, Progress& progress)
      : request_(request),
        context_(context),
        progress_(progress),
        writing_{request.choice, context.spool, [this](const std::string& path, const std::string& sentence) {
                   take_note(path, sentence);
                 }} {}

  RebuildResult run() {
    Place place = resolve(request_.target, context_, Step::into);
    if (place.layers.empty()) throw Malformed(no_container_text(place, ", so there is nothing to rebuild"));
    bool single = place.layers.back().format->single_stream;  // then its one entry is what is changed
    if (place.entry && !single) {
      throw Malformed(fmt::format(
          "\"{}\" is a file in \"{}\" and no container; name the container, and the file with --set",
          escape(place.inside), escape(place.layers.back().name)));
    }
    if (place.parts > 1 && request_.into.empty())
      throw Unsupported("writing a file of several numbered parts in place; --into writes it as one");
    std::vector<RebuildLayer> layers = prepare_layers(place, context_);
    guard_view(layers.back());
    WishedChanges wished = work_out(request_, *layers.back().container, single ? "" : place.inside);
    result_.fates = std::move(wished.fates);
    result_.kept_entries = wished.kept;
    result_.old_size = place.file_source->size();
    Changes changes = wished.changes;
    auto innermost = plan_changes(layers.back(), std::move(wished.changes), writing_);
    if (request_.trim) innermost = trimmed(layers.back(), std::move(innermost));
    bool nothing_changes = !innermost;
    if (nothing_changes && request_.into.empty()) {
      result_.new_size = result_.old_size;
      result_.kept_bytes = result_.old_size;
      return std::move(result_);
    }
    MoreChanges more;
    if (request_.update_sums) more = PackageSums(layers, changes, writing_, context_);
    std::vector<PlannedLayer> plans = plan_layers(layers, std::move(innermost), writing_, more);
    if (!plans.front().beside.empty()) plans.front().name = base_name(request_.into);  // which they follow
    tell_of_sums(layers);
    result_.new_size = plans.front().result.size();
    result_.kept_bytes = plans.front().result.kept_of(*layers.front().source);
    check(layers, plans);
    if (!request_.dry_run) write(place, layers.front(), plans.front());
    return std::move(result_);
  }

 private:
  std::optional<PlannedLayer> trimmed(const RebuildLayer& layer, std::optional<PlannedLayer> plan) {
    std::uint64_t before = plan ? plan->result.size() : layer.source->size();
    plan = plan_trim(layer, std::move(plan), context_);
    if (plan) result_.trimmed = before - plan->result.size();
    return plan;
  }

  void tell_of_sums(const std::vector<RebuildLayer>& layers) {
    bool in_package = PackageSums::concern({layers.begin(), std::prev(layers.end())});
    if (request_.update_sums && !in_package)
      throw Unsupported("bringing md5sums up to date: what changes is no data archive of a Debian package");
    if (in_package && !request_.update_sums && !result_.fates.empty())
      result_.fates.back().notes.emplace_back(
          "the package's md5sums still tell of what was there; --update-sums sets them");
  }

  /// Of a package another tree is shown than the one that is written: says where its files lie.
  void guard_view(const RebuildLayer& layer) const {
    if (layer.shown == layer.container) return;
    for (const Wish& wish : request_.wishes) {
      std::string path = clean_path(wish.path);
      auto has = [&](Container& container) {
        std::span<const Entry> all = container.entries();
        return std::any_of(all.begin(), all.end(), [&](const Entry& entry) { return entry.path == path; });
      };
      if (!has(*layer.shown) || has(*layer.container)) continue;
      std::vector<std::string> members;
      for (const Entry& entry : layer.container->entries()) members.push_back(escape(entry.path));
      throw Unsupported(
          fmt::format("changing \"{}\" where it is shown here; name the member that holds it behind the "
                      "package (operculum rebuild {}/MEMBER ...): {}",
                      escape(path), escape(request_.target), fmt::join(members, ", ")));
    }
  }

  /// Of what was written, all in one folder, and of where the originals are that it took the place of.
  void write_receipt(const std::vector<WrittenFile>& written) const {
    Receipt receipt;
    receipt.source = request_.target;
    for (const WrittenFile& one : written) {
      std::string path = absolute_path(one.path);
      receipt.folder = folder_on_disk(path);
      Receipt::Item item;
      item.path = name_part(path);
      item.size = one.size;
      item.sha256 = sha256_from(one.digest);
      item.set_replaced(std::string(name_part(one.replaced)));
      receipt.items.push_back(std::move(item));
    }
    receipt.write(request_.receipt);
  }

  void take_note(const std::string& path, const std::string& sentence) {
    auto fate = std::find_if(result_.fates.begin(), result_.fates.end(),
                             [&](const Fate& one) { return one.path == path; });
    if (fate == result_.fates.end()) {  // of a container around the one that changes
      result_.fates.push_back({Fate::Kind::changed, path, "", Entry::kUnknownSize, Entry::kUnknownSize, {}});
      fate = std::prev(result_.fates.end());
    }
    fate->notes.push_back(sentence);
  }

  void check(const std::vector<RebuildLayer>& layers, const std::vector<PlannedLayer>& plans) {
    for (std::size_t i = 0; i < layers.size(); ++i) {
      if (plans[i].changes.empty() && !plans[i].trimmed) continue;  // it is the original, in one piece
      result_.compared += check_plan(layers[i], plans[i], request_.quick, context_, progress_);
    }
  }

  /// All or nothing: what is beside goes again when what it belongs to cannot be written.
  void write(const Place& place, const RebuildLayer& outermost, const PlannedLayer& plan) {
    std::vector<FileToWrite> beside = files_to_write(plan, place.file, request_.into);
    std::vector<WrittenFile> written;
    try {
      for (FileToWrite& one : beside) {
        Assembly bytes;
        bytes.add(one.file.bytes);
        written.push_back(write_one(std::move(one.as), bytes, *one.file.before));
      }
      NewFile file;
      file.path = request_.into.empty() ? place.file : request_.into;
      file.in_place = request_.into.empty();
      file.like = place.file;
      written.push_back(write_one(std::move(file), plan.result, *outermost.source));
    } catch (...) {
      for (auto one = written.rbegin(); one != written.rend(); ++one) take_back(*one);
      throw;
    }
    result_.written = written.back().path;
    result_.original = written.back().replaced;
    result_.beside.assign(written.begin(), std::prev(written.end()));
    if (!request_.receipt.empty()) write_receipt(written);
  }

  WrittenFile write_one(NewFile file, const Assembly& bytes, const Source& original) {
    file.digest = !request_.receipt.empty();
    file.check = [&](const Source& written) {
      check_written(written, bytes, original, request_.quick, request_.choice.jobs, progress_);
    };
    return write_new_file(bytes, file, progress_);
  }

  const RebuildRequest& request_;
  OpenContext& context_;
  Progress& progress_;
  Writing writing_;
  RebuildResult result_;
};

}  // namespace

RebuildResult rebuild(const RebuildRequest& request, OpenContext& context, Progress& progress) {
  return Rebuild(request, context, progress).run();
}

}  // namespace operculum
