// Databases of the Windows Installer: packages, merge modules and patches, which are compound files
// ([MS-CFB]) of tables, as the Windows Installer's published table reference describes them.
#include <fmt/format.h>

#include <algorithm>
#include <unordered_map>

#include "base/error.h"
#include "base/numbers.h"
#include "base/text.h"
#include "codec/codec.h"
#include "container/two_views.h"
#include "format/archive/formats.h"
#include "format/package/formats.h"
#include "format/package/msi_install.h"
#include "format/package/property_set.h"

namespace operculum {
namespace {

using namespace msi;

constexpr std::string_view kSummaryStream = "\x05SummaryInformation";
enum SummaryProperty : unsigned {
  title_property = 2,
  subject_property = 3,
  author_property = 4,
  template_property = 7,
  word_count_property = 15
};
enum SourceFlag : unsigned { short_names_flag = 1, compressed_source_flag = 2 };

/// The database with what both views take from it.
struct Package {
  Package(SourcePtr bytes, Input given) : database(std::move(bytes)), input(std::move(given)) {
    if (SourcePtr stream = database.stream(kSummaryStream))
      summary = read_property_set(read_up_to(*stream, 0, 1 << 20));
  }
  unsigned source_flags() const {
    auto found = summary.find(word_count_property);
    return found == summary.end()
               ? compressed_source_flag
               : static_cast<unsigned>(parse_number(found->second).value_or(compressed_source_flag));
  }
  Facts about() const {
    Facts facts;
    for (auto [number, label] : {std::pair{title_property, "title"},
                                 {subject_property, "subject"},
                                 {author_property, "author"},
                                 {template_property, "for"}}) {
      auto found = summary.find(number);
      if (found != summary.end() && !found->second.empty()) facts.emplace_back(label, found->second);
    }
    return facts;
  }

  Database database;
  Input input;
  std::map<unsigned, std::string> summary;
};
using PackagePtr = std::shared_ptr<const Package>;

// ---- stored: streams and tables

std::string csv_field(const std::string& value) {
  if (value.find_first_of("\",\r\n") == std::string::npos) return value;
  std::string quoted = "\"";
  for (char c : value) quoted.append(c == '"' ? "\"\"" : std::string(1, c));
  return quoted + "\"";
}

/// A table as RFC 4180 text, written row by row while it is read.
class CsvStream final : public Stream {
 public:
  CsvStream(PackagePtr package, const std::string& name)
      : package_(std::move(package)), table_(package_->database.table(name)) {
    if (table_ == nullptr) return;
    for (const Column& column : table_->columns()) append(column.name);
    end_line();
  }
  std::size_t read(ByteSpan out) override {
    while (at_ == text_.size()) {
      if (table_ == nullptr || row_ == table_->rows()) return 0;
      text_.clear();
      at_ = 0;
      for (std::size_t i = 0; i < table_->columns().size(); ++i) append(table_->shown(row_, i));
      end_line();
      ++row_;
    }
    std::size_t count = std::min(out.size(), text_.size() - at_);
    std::copy_n(text_.begin() + static_cast<std::ptrdiff_t>(at_), count, out.begin());
    at_ += count;
    return count;
  }

 private:
  void append(const std::string& value) {
    if (!first_) text_ += ',';
    first_ = false;
    text_ += csv_field(value);
  }
  void end_line() {
    text_ += "\r\n";
    first_ = true;
  }

  PackagePtr package_;
  const Table* table_;
  std::size_t row_ = 0, at_ = 0;
  std::string text_;
  bool first_ = true;
};

class StoredView final : public Container {
 public:
  explicit StoredView(PackagePtr package) : package_(std::move(package)) {
    const auto& nodes = package_->database.file().nodes();
    std::vector<std::string> paths(nodes.size());
    for (std::size_t i = 1; i < nodes.size(); ++i) {
      std::string name = decode_name(nodes[i].wide);
      std::replace(name.begin(), name.end(), '/', '_');
      paths[i] = nodes[i].parent == 0 ? (nodes[i].storage ? "storages/" : "streams/") + name
                                      : paths[nodes[i].parent] + "/" + name;
      Entry entry;
      entry.path = paths[i];
      entry.kind = nodes[i].storage ? EntryKind::folder : EntryKind::file;
      if (!nodes[i].storage) entry.size = entry.stored_size = nodes[i].size;
      entries_.push_back(std::move(entry));
    }
    for (const std::string& table : package_->database.tables()) {
      Entry entry;
      entry.path = "tables/" + table + ".csv";
      entry.method = "table";
      entries_.push_back(std::move(entry));
    }
  }

  std::span<const Entry> entries() override { return entries_; }
  ContentPtr content(std::size_t index) override {
    const auto& nodes = package_->database.file().nodes();
    if (index + 1 < nodes.size()) return make_content(package_->database.file().open(nodes[index + 1]));
    std::string table = package_->database.tables()[index + 1 - nodes.size()];
    return make_content(
        [package = package_, table]() -> StreamPtr { return std::make_unique<CsvStream>(package, table); });
  }
  Facts facts() override { return package_->about(); }

 private:
  PackagePtr package_;
  std::vector<Entry> entries_;
};

// ---- installed: the files

class InstalledView final : public Container {
 public:
  InstalledView(PackagePtr package, OpenContext& context) : package_(std::move(package)), context_(context) {
    unsigned flags = package_->source_flags();
    tree_ = read_install_tree(package_->database, (flags & compressed_source_flag) != 0,
                              (flags & short_names_flag) != 0, *this);
    entries_.reserve(tree_.files.size());
    for (const InstalledFile& file : tree_.files) {
      Entry entry;
      entry.path = clean_path(file.path);
      entry.size = file.size;
      entry.mode = file.read_only ? 0444 : 0644;
      if (file.loose) {
        entry.stored_size = file.size;
      } else {
        entry.method = "cabinet";
      }
      if (!file.md5.empty()) entry.flags |= Entry::has_sum;
      if (!file.version.empty()) entry.extras().comment = "version " + file.version;
      context_.limits.count_kept(entry);
      entries_.push_back(std::move(entry));
    }
  }

  std::span<const Entry> entries() override { return entries_; }

  std::size_t lane(std::size_t index) const override {
    const InstalledFile& file = tree_.files[index];
    if (file.loose) return 0;
    try {
      const Cabinet& cabinet = cabinet_of(tree_.media[file.media].cabinet);
      auto found = cabinet.by_name.find(file.key);
      if (found == cabinet.by_name.end()) return 0;
      return (file.media + 1) << 32 | cabinet.container->lane(found->second);
    } catch (const std::exception&) {
      return 0;  // told when the file is read
    }
  }

  ContentPtr content(std::size_t index) override {
    const InstalledFile& file = tree_.files[index];
    ContentPtr data = file.loose ? loose(file) : from_cabinet(file);
    Expected expected{entries_[index].size, std::nullopt, {}, {}};
    if (!file.md5.empty()) {
      expected.sum = "md5";
      expected.digest = file.md5;
    }
    return make_checked(std::move(data), expected);
  }

  Facts facts() override { return plan().about; }
  bool installs() const override { return true; }
  std::optional<Installation> installation() override { return plan(); }

 private:
  Installation plan() const { return read_installation(package_->database, tree_, package_->about()); }

  struct Cabinet {
    ContainerPtr container;
    std::unordered_map<std::string, std::size_t> by_name;
  };

  ContentPtr from_cabinet(const InstalledFile& file) const {
    const std::string& name = tree_.media[file.media].cabinet;
    const Cabinet& cabinet = cabinet_of(name);
    auto found = cabinet.by_name.find(file.key);
    if (found == cabinet.by_name.end())
      throw Malformed(fmt::format("it should be in the cabinet \"{}\" as \"{}\" and is not", escape(name),
                                  escape(file.key)));
    return cabinet.container->content(found->second);
  }

  ContentPtr loose(const InstalledFile& file) const {
    SourcePtr source = package_->input.sibling ? package_->input.sibling(file.source) : nullptr;
    if (!source)
      throw Malformed(fmt::format("it lies in no cabinet, and its source \"{}\" is not beside the package",
                                  escape(file.source)));
    return make_content(source);
  }

  SourcePtr cabinet_bytes(const std::string& name) const {
    if (name.starts_with('#')) return package_->database.stream(std::string_view(name).substr(1));
    SourcePtr beside = package_->input.sibling ? package_->input.sibling(name) : nullptr;
    return beside ? beside : package_->database.stream(name);
  }

  /// Opened when the first file of it is wanted. What opening throws reaches everyone who wants one.
  const Cabinet& cabinet_of(const std::string& name) const {
    std::lock_guard lock(mutex_);
    auto [held, first] = cabinets_.try_emplace(name);
    if (first) {
      held->second = {};
      try {
        open_cabinet(name, held->second);
      } catch (const std::exception&) {
        cabinets_.erase(held);
        throw;
      }
    }
    return held->second;
  }

  void open_cabinet(const std::string& name, Cabinet& cabinet) const {
    SourcePtr bytes = cabinet_bytes(name);
    if (!bytes) {
      throw Malformed(
          name.starts_with('#')
              ? fmt::format("its cabinet, the stream \"{}\", is not in the package", escape(name.substr(1)))
              : fmt::format("its cabinet \"{}\" is not beside the package; put it there", escape(name)));
    }
    Input input{make_content(bytes),
                name,
                {[this](const std::string& sibling) { return cabinet_bytes(sibling); }, {}}};
    cabinet.container = cab_format().open(input, context_);
    std::span<const Entry> entries = cabinet.container->entries();
    for (std::size_t i = 0; i < entries.size(); ++i) cabinet.by_name.emplace(entries[i].path, i);
  }

  PackagePtr package_;
  OpenContext& context_;
  InstallTree tree_;
  std::vector<Entry> entries_;
  mutable std::mutex mutex_;  // guards the next
  mutable std::map<std::string, Cabinet> cabinets_;
};

// ---- the format

/// First numbers of the root's class; the rest is that of all classes of the system.
constexpr std::array<Byte, 12> kClassRest = {0, 0, 0, 0, 0xC0, 0, 0, 0, 0, 0, 0, 0x46};
enum RootClass : std::uint32_t {
  transform_class = 0x000C1082,
  database_class = 0x000C1084,
  patch_class = 0x000C1086
};

/// The root storage's class tells a database from other compound files.
Match recognise_msi(Probe& probe) {
  ByteView head = probe.head(cfb::kHeader);
  if (head.size() < cfb::kHeader || !std::equal(cfb::kMark.begin(), cfb::kMark.end(), head.begin()))
    return Match::none;
  auto header = read_structure<cfb::Header>(head.data());
  unsigned shift = header.sector_shift;
  if (shift < 7 || shift > 16) return Match::none;
  Bytes raw = probe.at((std::uint64_t{header.first_directory_sector} + 1) << shift, cfb::kDirectoryEntry);
  if (raw.size() < cfb::kDirectoryEntry) return Match::none;
  auto root = read_structure<cfb::DirectoryEntry>(raw.data());
  std::uint32_t first = load_little<std::uint32_t>(root.clsid.data());
  bool rest = std::equal(kClassRest.begin(), kClassRest.end(), root.clsid.begin() + sizeof first);
  bool known = first == transform_class || first == database_class || first == patch_class;
  return known && rest ? Match::front : Match::none;
}

ContainerPtr open_msi(const Input& input, OpenContext& context) {
  std::shared_ptr<const Package> package;
  try {
    package = std::make_shared<const Package>(random_access(*input.content, context.spool), input);
  } catch (const Malformed& error) {  // what is left of it may still have streams
    ContainerPtr plain = cfb_format().open(input, context);
    plain->add_finding(Finding::Level::fault, fmt::format("its tables cannot be read: {}", error.what()));
    return plain;
  }
  auto stored = std::make_shared<StoredView>(package);
  for (const std::string& trouble : package->database.file().troubles())
    stored->add_finding(Finding::Level::fault, trouble);
  if (context.view == "stored" || package->database.table("File") == nullptr) return stored;
  auto installed = std::make_shared<InstalledView>(package, context);
  for (const Finding& finding : stored->findings()) installed->add_finding(finding.level, finding.text);
  return std::make_shared<TwoViews>(installed, stored);
}

}  // namespace

Format msi_format() {
  return {.id = "msi",
          .name = "Windows Installer package",
          .family = "package",
          .specification = "[MS-CFB]; Windows Installer database tables as published",
          .reads =
              "packages, merge modules, patches; the tree that an installation makes, from cabinets within "
              "or beside it and from loose files; sizes and hashes; tables as CSV and streams (view stored)",
          .lacks = "applying transforms and patches",
          .suffixes = {".msi", ".msm", ".msp", ".mst"},
          .views = {"installed", "stored"},
          .recognise = recognise_msi,
          .open = open_msi};
}

}  // namespace operculum
