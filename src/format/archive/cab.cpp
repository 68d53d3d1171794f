// Cabinets: [MS-CAB], with MSZIP ([MS-MCI]), LZX ([MS-PATCH] 2) and Quantum folders, and sets of several
// cabinets in which files run from one into the next.
#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/error.h"
#include "base/text.h"
#include "container/record_fields.h"
#include "format/archive/cab_write.h"
#include "format/archive/formats.h"
#include "io/solid_stream.h"

namespace operculum {
namespace {

using namespace cab;

constexpr std::size_t kMostCabinets = 1000;

using CabinetPtr = std::shared_ptr<const Cabinet>;

/// The cabinets of a set that could be found, in order.
class SetFinder {
 public:
  SetFinder(Container& container, const Input& input) : container_(container), input_(input) {}

  std::vector<CabinetPtr> find(const CabinetPtr& given) {
    std::vector<CabinetPtr> all;
    for (CabinetPtr at = given; (at = neighbour(*at, at->previous, at->previous_disk, -1));)
      all.push_back(at);
    std::reverse(all.begin(), all.end());
    all.push_back(given);
    for (CabinetPtr at = given; (at = neighbour(*at, at->next, at->next_disk, 1));) all.push_back(at);
    return all;
  }

 private:
  CabinetPtr neighbour(const Cabinet& from, const std::string& name, const std::string& disk, int step) {
    if (name.empty() || seen_.size() >= kMostCabinets) return nullptr;
    if (!seen_.insert({to_lower(name), step}).second) {
      container_.add_finding(Finding::Level::fault,
                             fmt::format("the cabinet \"{}\" is named twice in its set", escape(name)));
      return nullptr;
    }
    std::string why;
    try {
      SourcePtr bytes = input_.sibling ? input_.sibling(name) : nullptr;
      if (!bytes) {
        why = "is not there";
      } else {
        auto found = std::make_shared<Cabinet>(read_cabinet(std::move(bytes), name));
        if (found->set_id == from.set_id && found->number == from.number + step) return found;
        why = fmt::format("is number {} of set {}, where number {} of set {} is wanted", found->number + 1,
                          found->set_id, from.number + step + 1, from.set_id);
      }
    } catch (const Error& error) {
      why = fmt::format("cannot be read: {}", error.what());
    }
    std::string label = disk.empty() ? "" : fmt::format(" (\"{}\")", escape(disk));
    container_.add_finding(
        Finding::Level::fault,
        fmt::format(
            "the {} cabinet of the set, \"{}\"{}, {}: what lies in it is missing; put it beside \"{}\"",
            step < 0 ? "previous" : "next", escape(name), label, why, escape(from.name)));
    return nullptr;
  }

  Container& container_;
  const Input& input_;
  std::set<std::pair<std::string, int>> seen_;
};

class CabContainer final : public Container {
 public:
  CabContainer(const Input& input, OpenContext& context)
      : names_in_(context.names_in), limits_(context.limits) {
    auto own =
        std::make_shared<Cabinet>(read_cabinet(random_access(*input.content, context.spool), input.name));
    note_size(*own);
    cabinets_ = SetFinder(*this, input).find(own);
    for (std::size_t i = 0; i < cabinets_.size(); ++i) add_cabinet(i);
    for (const std::shared_ptr<Folder>& folder : folders_)
      streams_.push_back(std::make_shared<SolidStream>([folder] { return open_folder(folder); }));
  }

  std::span<const Entry> entries() override { return entries_; }
  std::size_t lane(std::size_t index) const override { return places_[index].folder + 1; }

  ContentPtr content(std::size_t index) override {
    const Place& place = places_[index];
    if (place.folder >= streams_.size()) throw Malformed("its folder does not exist; the cabinet is damaged");
    return streams_[place.folder]->part(place.offset, entries_[index].size);
  }

  Assembly rewrite(const Changes& changes, const Writing& writing) override {
    const CabinetPtr& cabinet = cabinets_.front();
    if (changes.empty()) {
      Assembly whole;
      whole.add(cabinet->bytes);
      return whole;
    }
    if ((cabinet->flags & (has_previous | has_next)) != 0)
      throw Unsupported("writing a cabinet of a set of several; unpack the set and pack it as one");
    bool without_folder = std::any_of(entries_.begin(), entries_.end(),
                                      [](const Entry& one) { return one.is(Entry::damaged); });
    if (without_folder || !cabinet->trouble.empty() || cabinet->stated_size > cabinet->bytes->size())
      throw Unsupported("writing a cabinet that is damaged");
    OldCabinet old{cabinet, entries_, [this](std::size_t index) { return content(index); },
                   [this](std::size_t folder) { return open_folder(folders_[folder]); }};
    return cab::rewrite(old, changes, writing);
  }

  Facts facts() override {
    Facts facts;
    facts.emplace_back("folders", std::to_string(streams_.size()));
    std::set<std::string_view> methods;
    for (const Entry& entry : entries_) methods.insert(entry.method);
    for (std::string_view method : methods) facts.emplace_back("method", method);
    if (cabinets_.size() > 1) {
      std::string names;
      for (const CabinetPtr& cabinet : cabinets_) names += (names.empty() ? "" : ", ") + cabinet->name;
      facts.emplace_back("set", fmt::format("{} cabinets: {}", cabinets_.size(), names));
    }
    if (signed_) facts.emplace_back("signature", "there is one behind the cabinet; it is not checked");
    return facts;
  }

 private:
  struct Place {
    std::size_t folder;
    std::uint64_t offset;
  };

  void note_size(const Cabinet& cabinet) {
    std::uint64_t size = cabinet.bytes->size();
    if (cabinet.stated_size > size) {
      add_finding(Finding::Level::fault,
                  fmt::format("the cabinet is cut short: it states {} bytes, and there are {}; get it again",
                              cabinet.stated_size, size));
    } else if (cabinet.stated_size < size) {
      Signature found = signature(cabinet);
      signed_ = found.length != 0;
      std::uint64_t behind = size - (signed_ ? found.at + found.length : cabinet.stated_size);
      if (behind > 7)  // a signature is filled up to 8 bytes
        add_finding(Finding::Level::note, fmt::format("{} bytes lie behind the end of the cabinet", behind));
    }
  }

  /// Folders of cabinet `index`, the first one joined with the last of the cabinet before where a file runs
  /// across.
  void add_cabinet(std::size_t index) {
    const CabinetPtr& cabinet = cabinets_[index];
    if (!cabinet->trouble.empty())
      add_finding(Finding::Level::fault, fmt::format("{}: {}", escape(cabinet->name), cabinet->trouble));
    auto any = [&](Continued first, Continued second) {
      return std::any_of(cabinet->files.begin(), cabinet->files.end(), [&](const FileRecord& file) {
        return file.folder == first || file.folder == second;
      });
    };
    bool joins = any(from_previous, from_previous_to_next);
    bool goes_on = any(to_next, from_previous_to_next);
    std::size_t first = folders_.size();
    for (const FolderRecord& record : cabinet->folders) {
      bool is_first = &record == &cabinet->folders.front();
      if (is_first && joins && index > 0 && !folders_.empty()) {
        --first;
      } else {
        folders_.push_back(std::make_shared<Folder>());
        if (is_first && joins) folders_.back()->missing_front = cabinet->previous;
      }
      folders_.back()->pieces.push_back({cabinet, record});
    }
    for (std::size_t i = sums_.size(); i < folders_.size(); ++i) sums_.push_back(has_sums(*folders_[i]));
    if (goes_on && index + 1 == cabinets_.size() && !folders_.empty())
      folders_.back()->missing_rest = cabinet->next;
    for (const FileRecord& file : cabinet->files) {
      bool from_before = file.folder == from_previous || file.folder == from_previous_to_next;
      if (from_before && index > 0) continue;  // listed with the cabinet before
      std::size_t folder = from_before              ? first
                           : file.folder == to_next ? folders_.size() - 1
                                                    : first + file.folder;
      add_file(file, folder);
    }
  }

  void add_file(const FileRecord& file, std::size_t folder) {
    Entry entry;
    std::string name = decoded_name(file);
    std::replace(name.begin(), name.end(), '\\', '/');
    entry.path = clean_path(name);
    entry.size = file.size;
    entry.modified = from_dos(file.date, file.time);
    entry.method = folder < folders_.size() ? method_name(folders_[folder]->method()) : "unknown";
    entry.mode = ((file.flags & read_only) != 0 ? 0444 : 0644) | ((file.flags & execute) != 0 ? 0111 : 0);
    if (folder < folders_.size() && sums_[folder]) entry.flags |= Entry::has_sum;
    if (folder >= folders_.size()) entry.flags |= Entry::damaged;
    limits_.count_kept(entry);
    entries_.push_back(std::move(entry));
    places_.push_back({folder, file.offset});
  }

  /// Without the flag the specification means the code page of the machine; 1252 is the most usual.
  std::string decoded_name(const FileRecord& file) const {
    if ((file.flags & utf8_name) != 0 && is_utf8(file.name)) return file.name;
    if (names_in_.empty() && is_utf8(file.name)) return file.name;
    return to_utf8(file.name, names_in_.empty() ? "CP1252" : names_in_).value_or(file.name);
  }

  std::string names_in_;
  const Limits& limits_;
  std::vector<CabinetPtr> cabinets_;
  std::vector<std::shared_ptr<Folder>> folders_;
  std::vector<bool> sums_;  // whether a folder's blocks have checksums
  std::vector<std::shared_ptr<SolidStream>> streams_;
  std::vector<Entry> entries_;
  std::vector<Place> places_;
  bool signed_ = false;
};

Match recognise_cab(Probe& probe) {
  ByteView head = probe.head(kHeader);
  if (head.size() < kHeader || !starts_with(head, kMark)) return Match::none;
  auto header = read_structure<Header>(head.data());
  bool zeros = header.reserved1 == 0 && header.reserved2 == 0;
  bool fits = zeros && header.major == 1 && header.size >= kHeader && header.files_at >= kHeader &&
              header.files_at <= header.size;
  return fits ? Match::front : Match::none;
}

ContainerPtr open_cab(const Input& input, OpenContext& context) {
  return std::make_shared<CabContainer>(input, context);
}

}  // namespace

Format cab_format() {
  return {.id = "cab",
          .name = "cabinet",
          .family = "archive",
          .specification = "[MS-CAB], [MS-MCI], [MS-PATCH] 2",
          .reads =
              "stored, MSZIP, LZX and Quantum folders; sets of several cabinets beside each other; "
              "reserved areas, UTF-8 names, block checksums",
          .lacks = "checking of signatures",
          .writes = "stored, MSZIP and LZX folders, of single cabinets; what is new in a folder of its own",
          .suffixes = {".cab"},
          .own_order = true,
          .recognise = recognise_cab,
          .open = open_cab,
          .pack = cab::pack,
          .keeps = {.folders = false, .links = false, .hard_links = false, .modes = false, .owners = false},
          .records = {record_at<Header>("header", 0)}};
}

}  // namespace operculum
