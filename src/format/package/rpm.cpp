// RPM packages, versions 3 and 4: lead, signature header, header, and a cpio payload in any codec, also the
// form without names for large files.
#include <fmt/format.h>

#include <algorithm>
#include <unordered_map>

#include "base/brief_text.h"
#include "base/error.h"
#include "base/fields.h"
#include "base/sum_kinds.h"
#include "base/text.h"
#include "container/ranges.h"
#include "container/sequence.h"
#include "container/two_views.h"
#include "format/package/formats.h"
#include "format/package/payload.h"
#include "format/package/rpm_header.h"

namespace operculum {
namespace {

using namespace rpm;

constexpr std::uint64_t kLead = 96;
constexpr Byte kMark[] = {0xED, 0xAB, 0xEE, 0xDB};
constexpr std::size_t kNamed = 110, kNameless = 14;  // bytes of the two kinds of payload headers
constexpr std::string_view kTrailer = "TRAILER!!!";
constexpr std::size_t kLongestName = 65536;
constexpr std::uint64_t kConfiguration = 1;  // a file flag: a person may change it
constexpr std::uint64_t kGhost = 64;         // a file flag: owned by the package, not in it

/// Numbers of digests as OpenPGP has them (RFC 4880, 9.4).
std::string_view digest_name(std::uint64_t kind) {
  switch (kind) {
    case 1:
      return "md5";
    case 2:
      return "sha1";
    case 8:
      return "sha256";
    case 9:
      return "sha384";
    case 10:
      return "sha512";
    default:
      return "";
  }
}

/// What the header says about the files.
class FileTable {
 public:
  FileTable(const Header& header, const Limits& limits) {
    std::vector<std::string> names = header.texts(basenames_tag), folders = header.texts(dirnames_tag);
    std::vector<std::uint64_t> indexes = header.numbers(dirindexes_tag);
    if (names.empty()) {
      paths_ = header.texts(oldfilenames_tag);
    } else {
      for (std::size_t i = 0; i < names.size(); ++i) {
        std::size_t folder = i < indexes.size() ? static_cast<std::size_t>(indexes[i]) : SIZE_MAX;
        paths_.push_back((folder < folders.size() ? folders[folder] : "/") + names[i]);
        limits.count_retained(sizeof(std::string) * 2 + paths_.back().size());
      }
    }
    for (std::string& path : paths_) path = clean_path(path.starts_with('/') ? path.substr(1) : path);
    sizes_ = header.numbers(header.has(longfilesizes_tag) ? longfilesizes_tag : filesizes_tag);
    modes_ = header.numbers(filemodes_tag);
    times_ = header.numbers(filemtimes_tag);
    devices_ = header.numbers(filerdevs_tag);
    flags_ = header.numbers(fileflags_tag);
    digests_ = header.texts(filedigests_tag);
    links_ = header.texts(filelinktos_tag);
    owners_ = header.texts(fileusername_tag);
    groups_ = header.texts(filegroupname_tag);
    sum_ = digest_name(header.number(filedigestalgo_tag, 1));
    std::vector<std::uint64_t> inodes = header.numbers(fileinodes_tag), on = header.numbers(filedevices_tag);
    for (std::size_t i = 0; i < paths_.size(); ++i) {
      by_path_[paths_[i]] = i;
      if (i >= inodes.size() || is_ghost(i) || (at(modes_, i) & 0170000) != 0100000) continue;
      last_of_.push_back({inodes[i] | at(on, i) << 32, i});
    }
    // Of the names of one file only the last has the data.
    std::sort(last_of_.begin(), last_of_.end());
    holder_.resize(paths_.size());
    for (std::size_t i = 0; i < paths_.size(); ++i) holder_[i] = i;
    for (std::size_t i = last_of_.size(); i-- > 1;) {
      if (last_of_[i - 1].first == last_of_[i].first)
        holder_[last_of_[i - 1].second] = holder_[last_of_[i].second];
    }
    last_of_.clear();
  }

  std::size_t size() const { return paths_.size(); }
  const std::string& path(std::size_t i) const { return paths_[i]; }
  bool is_ghost(std::size_t i) const { return (at(flags_, i) & kGhost) != 0; }
  bool is_configuration(std::size_t i) const { return (at(flags_, i) & kConfiguration) != 0; }
  std::uint64_t file_size(std::size_t i) const { return at(sizes_, i); }
  std::optional<std::size_t> find(const std::string& path) const {
    auto found = by_path_.find(path);
    return found == by_path_.end() ? std::nullopt : std::optional(found->second);
  }

  bool has_damaged_digest(std::size_t i) const {
    return i < digests_.size() && holder_[i] == i && is_damaged_digest(sum_, digests_[i]);
  }

  /// Everything but where the data lies.
  void describe(std::size_t i, SequenceItem& item) const {
    Entry& entry = item.entry;
    entry.path = paths_[i];
    entry.mode = static_cast<std::uint32_t>(at(modes_, i) & 07777);
    entry.kind = kind_of_mode(static_cast<std::uint32_t>(at(modes_, i)));
    entry.modified = from_unix(static_cast<std::int64_t>(at(times_, i)));
    EntryExtra& extra = entry.extras();
    if (i < owners_.size()) extra.owner = owners_[i];
    if (i < groups_.size()) extra.group = groups_[i];
    extra.device_major = static_cast<std::uint32_t>(at(devices_, i) >> 8);
    extra.device_minor = static_cast<std::uint32_t>(at(devices_, i) & 0xFF);
    if (entry.kind == EntryKind::symbolic_link && i < links_.size()) extra.link_target = links_[i];
    if (entry.kind != EntryKind::file) return;
    if (holder_[i] != i) {
      entry.kind = EntryKind::hard_link;
      extra.link_target = paths_[holder_[i]];
    } else if (auto digest = read_digest(sum_, i < digests_.size() ? digests_[i] : std::string_view())) {
      item.sum = sum_;
      item.digest = std::move(*digest);
      entry.flags |= Entry::has_sum;
    }
  }

 private:
  static std::uint64_t at(const std::vector<std::uint64_t>& numbers, std::size_t i) {
    return i < numbers.size() ? numbers[i] : 0;
  }

  std::vector<std::string> paths_, digests_, links_, owners_, groups_;
  std::vector<std::uint64_t> sizes_, modes_, times_, devices_, flags_;
  std::vector<std::pair<std::uint64_t, std::size_t>> last_of_;
  std::vector<std::size_t> holder_;
  std::unordered_map<std::string_view, std::size_t> by_path_;
  std::string_view sum_;
};

/// The payload: cpio "newc", whose entries the header describes; files beyond 4 GiB have only their number.
class PayloadParser final : public SequenceParser {
 public:
  explicit PayloadParser(std::shared_ptr<const FileTable> files) : files_(std::move(files)) {}

  bool next(InputBuffer& input, SequenceItem& item) override {
    std::uint64_t offset = input.consumed();
    ByteView front = input.ensure(kNamed);
    if (front.size() < kNameless) throw CutShort("the payload ends without its end mark; it is cut short");
    std::string_view magic = as_text(front.first(6));
    if (magic == "07070X") {
      std::uint64_t number = hex(front, 6, offset);
      input.consume(kNameless + 2);  // filled up to a multiple of four
      if (number >= files_->size())
        throw Malformed(
            fmt::format("RPM payload at offset {}: file number {} does not exist", offset, number));
      take(static_cast<std::size_t>(number), files_->file_size(static_cast<std::size_t>(number)), input,
           item);
      return true;
    }
    if ((magic != "070701" && magic != "070702") || front.size() < kNamed)
      throw Malformed(
          fmt::format("RPM payload at offset {}: expected a cpio header, found other bytes", offset));
    std::uint64_t mode = hex(front, 14, offset), time = hex(front, 46, offset), size = hex(front, 54, offset),
                  name_size = hex(front, 94, offset);
    if (name_size == 0 || name_size > kLongestName)
      throw Malformed(fmt::format("RPM payload at offset {}: a name of {} bytes", offset, name_size));
    ByteView all = input.ensure(kNamed + static_cast<std::size_t>(name_size));
    if (all.size() < kNamed + name_size) throw CutShort("the payload ends within a name; it is cut short");
    std::string name(as_text(all.subspan(kNamed, static_cast<std::size_t>(name_size) - 1)));
    input.consume(kNamed + static_cast<std::size_t>(name_size));
    input.skip((4 - (kNamed + name_size) % 4) % 4);
    if (name == kTrailer) return false;
    std::string path = clean_path(name.starts_with("./") ? name.substr(2) : name);
    if (path.starts_with('/')) path.erase(0, 1);
    auto known = files_->find(path);
    if (known) {
      take(*known, size, input, item);
      if (files_->has_damaged_digest(*known))
        report(Finding::Level::fault,
               fmt::format("{}: its stored digest is damaged and could not be compared", escape(path)));
      return true;
    }
    report(Finding::Level::warning, fmt::format("{}: the header does not name this file", escape(path)));
    item.entry.path = path;
    item.entry.mode = static_cast<std::uint32_t>(mode & 07777);
    item.entry.kind = kind_of_mode(static_cast<std::uint32_t>(mode));
    item.entry.modified = from_unix(static_cast<std::int64_t>(time));
    place(size, input, item);
    return true;
  }

 private:
  static std::uint64_t hex(ByteView front, std::size_t at, std::uint64_t offset) {
    auto value = parse_number(as_text(front.subspan(at, 8)), 16);
    if (!value) throw Malformed(fmt::format("RPM payload at offset {}: a field is no number", offset + at));
    return *value;
  }

  void take(std::size_t number, std::uint64_t size, const InputBuffer& input, SequenceItem& item) const {
    files_->describe(number, item);
    place(size, input, item);
  }

  static void place(std::uint64_t size, const InputBuffer& input, SequenceItem& item) {
    item.packed = size;
    item.padding = (4 - size % 4) % 4;
    item.entry.stored_at = input.consumed();
    if (item.entry.kind == EntryKind::hard_link && size != 0) item.entry.kind = EntryKind::file;
    if (item.entry.kind == EntryKind::file) item.entry.size = item.entry.stored_size = size;
  }

  std::shared_ptr<const FileTable> files_;
};

/// A tag with its script, what runs it, and when.
struct ScriptTag {
  std::uint32_t script, program;
  std::string_view name, when;
};
constexpr ScriptTag kScripts[] = {
    {pretrans_tag, pretransprog_tag, "pretrans", "before everything else"},
    {prein_tag, preinprog_tag, "pre", "before unpacking"},
    {postin_tag, postinprog_tag, "post", "after unpacking"},
    {preun_tag, preunprog_tag, "preun", "before removing"},
    {postun_tag, postunprog_tag, "postun", "after removing"},
    {posttrans_tag, posttransprog_tag, "posttrans", "after everything else"},
};

constexpr std::pair<std::uint32_t, const char*> kAbout[] = {
    {name_tag, "product"},  {version_tag, "version"}, {release_tag, "release"}, {arch_tag, "for"},
    {summary_tag, "title"}, {vendor_tag, "maker"},    {license_tag, "licence"}, {url_tag, "from"},
};

class InstalledView final : public TwoViews {
 public:
  InstalledView(ContainerPtr payload, ContainerPtr members, std::shared_ptr<const Header> header,
                std::shared_ptr<const FileTable> files, std::string codec)
      : TwoViews(std::move(payload), std::move(members)),
        header_(std::move(header)),
        files_(std::move(files)),
        codec_(std::move(codec)) {}

  Facts facts() override {
    Facts facts = about();
    facts.emplace_back("payload", codec_.empty() ? "stored" : codec_);
    return facts;
  }

  bool installs() const override { return true; }
  std::optional<Installation> installation() override {
    Installation result;
    result.system_paths = true;
    result.about = about();
    for (const ScriptTag& one : kScripts) {
      std::string text = header_->text(one.script), program = header_->text(one.program);
      if (text.empty() && program.empty()) continue;
      result.actions.push_back(
          {InstallAction::Kind::script, std::string(one.name), std::string(one.when), program, text});
    }
    for (const std::string& text : header_->texts(triggerscripts_tag)) {
      result.actions.push_back(
          {InstallAction::Kind::script, "trigger", "when another package comes or goes", "", text});
    }
    for (std::size_t i = 0; i < files_->size(); ++i) {
      if (files_->is_configuration(i)) result.configuration.push_back(files_->path(i));
      if (auto action = started_by_path(files_->path(i))) result.actions.push_back(std::move(*action));
      if (files_->is_ghost(i))
        result.notes.push_back(
            fmt::format("{} belongs to the package and is made later", escape(files_->path(i))));
    }
    for (const std::string& need : header_->texts(requirename_tag)) {
      if (!need.starts_with("rpmlib(")) result.needs.push_back(need);
    }
    return result;
  }

 private:
  Facts about() const {
    Facts facts;
    for (auto [tag, label] : kAbout) {
      if (std::string text = header_->text(tag); !text.empty()) facts.emplace_back(label, text);
    }
    return facts;
  }

  std::shared_ptr<const Header> header_;
  std::shared_ptr<const FileTable> files_;
  std::string codec_;
};

/// The parts of the package file as they lie in it.
ContainerPtr stored_view(const SourcePtr& bytes, const Header& signature, const Header& header) {
  std::string codec = header.text(payloadcompressor_tag);
  NamedRange payload{"payload.cpio" + (codec.empty() ? "" : "." + codec), header.end(),
                     bytes->size() - std::min(bytes->size(), header.end())};
  std::string_view sum = digest_name(header.number(payloaddigestalgo_tag));
  if (auto digest = read_digest(sum, header.text(payloaddigest_tag))) {
    payload.sum = sum;
    payload.digest = std::move(*digest);
  }
  return make_ranges(bytes, {{"lead", 0, kLead},
                             {"signature-header", signature.begin(), signature.end() - signature.begin()},
                             {"header", header.begin(), header.end() - header.begin()},
                             std::move(payload)});
}

void check_header(const Source& bytes, const Header& signature, const Header& header, Container& container) {
  std::uint64_t stated = signature.number(longsize_signature_tag, signature.number(size_signature_tag));
  std::uint64_t there = bytes.size() - header.begin();
  if (stated > there) {
    container.add_finding(
        Finding::Level::fault,
        fmt::format("the package is cut short: it states {} bytes behind its signature, and there "
                    "are {}; get it again",
                    stated, there));
  }
  for (auto [tag, sum] : {std::pair<std::uint32_t, std::string_view>{sha256_signature_tag, "sha256"},
                          {sha1_signature_tag, "sha1"}}) {
    auto stored = from_hex(signature.text(tag));
    if (!stored || stored->empty()) continue;
    auto computed = find_sum(sum)->make({});
    computed->add(read_up_to(bytes, header.begin(), header.end() - header.begin()));
    if (computed->finish() != *stored)
      container.add_finding(Finding::Level::fault,
                            fmt::format("the header does not fit its {}; the package is damaged", sum));
    return;
  }
}

Match recognise_rpm(Probe& probe) {
  ByteView head = probe.head(kLead + 4);
  if (head.size() < kLead + 4 || !std::equal(std::begin(kMark), std::end(kMark), head.begin()))
    return Match::none;
  return head[4] == 3 || head[4] == 4 ? Match::front : Match::none;
}

ContainerPtr open_rpm(const Input& input, OpenContext& context) {
  SourcePtr bytes = random_access(*input.content, context.spool);
  Header signature = Header::read(*bytes, kLead);
  std::uint64_t at = (signature.end() + 7) / 8 * 8;
  auto shared = std::make_shared<const Header>(Header::read(*bytes, at));
  const Header& header = *shared;
  std::string format = header.text(payloadformat_tag);
  ContainerPtr members = stored_view(bytes, signature, header);
  if (context.view == "stored") return members;
  if (!format.empty() && format != "cpio")
    throw Unsupported(fmt::format("RPM payloads of format {}", escape_briefly(format)));
  if (header.end() >= bytes->size())
    throw CutShort("the package ends behind its header: the payload is missing; get it again");
  SourcePtr packed = make_slice(bytes, header.end(), bytes->size() - header.end());
  Unwrapped payload = unwrapped(make_content(packed), context);
  auto files = std::make_shared<const FileTable>(header, context.limits);
  Input inner{payload.content, input.name};
  ContainerPtr tree =
      make_sequence(inner, context, [files] { return std::make_unique<PayloadParser>(files); });
  auto view = std::make_shared<InstalledView>(tree, members, std::move(shared), files, payload.codec);
  check_header(*bytes, signature, header, *view);
  return view;
}

}  // namespace

Format rpm_format() {
  return {.id = "rpm",
          .name = "RPM package",
          .family = "package",
          .specification = "RPM package format, versions 3 and 4",
          .reads =
              "all payload codecs, files over 4 GiB, hard links, owners, digests of the header and of each "
              "file; the parts of the file (view stored)",
          .lacks = "checking of signatures; delta payloads",
          .suffixes = {".rpm"},
          .views = {"installed", "stored"},
          .recognise = recognise_rpm,
          .open = open_rpm,
          .records = {known_intro(kLead)}};
}

}  // namespace operculum
