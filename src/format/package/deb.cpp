// Debian packages: deb(5), format 2.0: an ar archive of a version, a control archive and a data archive.
#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <unordered_map>

#include "base/error.h"
#include "base/sum_kinds.h"
#include "base/text.h"
#include "codec/codec.h"
#include "container/identify.h"
#include "container/two_views.h"
#include "format/archive/formats.h"
#include "format/package/formats.h"
#include "format/package/payload.h"

namespace operculum {
namespace {

using Digests = std::unordered_map<std::string, Bytes>;

constexpr std::string_view kFront = "!<arch>\ndebian-binary ";
constexpr std::uint64_t kMostControl = 8 << 20;  // bytes of a file of the control archive that are looked at
constexpr std::size_t kMostControlFiles = 1000;
constexpr std::uint64_t kMostControlTotal = 32 << 20;  // bytes of all of them

/// A control script and when it is run.
constexpr std::pair<std::string_view, std::string_view> kScripts[] = {
    {"config", "before unpacking, to ask questions"},
    {"preinst", "before unpacking"},
    {"postinst", "after unpacking"},
    {"prerm", "before removing"},
    {"postrm", "after removing"}};

constexpr std::pair<std::string_view, const char*> kAbout[] = {
    {"Package", "product"},  {"Version", "version"}, {"Architecture", "for"},
    {"Maintainer", "maker"}, {"Section", "section"}, {"Description", "title"}};

/// The fields of a control file (Debian policy, 5.1); lines that go on are joined.
std::map<std::string, std::string> read_fields(std::string_view text) {
  std::map<std::string, std::string> fields;
  std::string last;
  for (std::string_view line : split(text, '\n')) {
    if (line.empty()) continue;
    if (line.front() == ' ' || line.front() == '\t') {
      if (!last.empty()) fields[last].append("\n").append(trim(line));
      continue;
    }
    std::size_t colon = line.find(':');
    if (colon == std::string_view::npos) continue;
    last = line.substr(0, colon);
    fields[last] = trim(line.substr(colon + 1));
  }
  return fields;
}

/// "md5sums": a digest and a path a line.
Digests read_digests(std::string_view text) {
  Digests digests;
  for (std::string_view line : split(text, '\n')) {
    if (line.size() < 35) continue;
    if (auto digest = from_hex(line.substr(0, 32)))
      digests[clean_path(trim(line.substr(33)))] = std::move(*digest);
  }
  return digests;
}

class InstalledView final : public TwoViews {
 public:
  InstalledView(const ContainerPtr& data, bool checked, ContainerPtr members,
                std::map<std::string, std::string> control)
      : TwoViews(data, std::move(members)),
        data_(data),
        checked_(checked),
        control_(std::move(control)),
        fields_(read_fields(control_["control"])),
        digests_(read_digests(control_["md5sums"])) {}

  ContentPtr content(std::size_t index) override {
    ContentPtr inner = data_->content(index);
    auto known = digests_.find(data_->entries()[index].path);
    if (known == digests_.end()) return inner;
    return make_checked(std::move(inner), expect(known->second));
  }

  void walk(const Visitor& visitor) override {
    data_->walk([&](const Visit& visit) {
      auto known = visit.entry.has_data() ? digests_.find(visit.entry.path) : digests_.end();
      Visit checked{visit.entry, visit.index, visit.content, visit.stream, visit.lane, checked_};
      if (known == digests_.end()) return visitor(checked);
      checked.checked = true;
      StreamPtr wrapped;
      if (visit.stream != nullptr) {
        wrapped = make_checked(make_borrowed(*visit.stream), expect(known->second));
        checked.stream = wrapped.get();
      } else {
        checked.content = make_checked(visit.content, expect(known->second));
      }
      return visitor(checked);
    });
  }

  Facts facts() override { return about(); }

  bool installs() const override { return true; }
  std::optional<Installation> installation() override {
    Installation result;
    result.system_paths = true;
    result.about = about();
    for (auto [name, when] : kScripts) {
      auto script = control_.find(std::string(name));
      if (script != control_.end())
        result.actions.push_back(
            {InstallAction::Kind::script, std::string(name), std::string(when), "", script->second});
    }
    data_->each(Detail::paths, [&](const Entry& entry) {
      if (entry.kind == EntryKind::folder) return;
      if (auto action = started_by_path(entry.path)) result.actions.push_back(std::move(*action));
    });
    for (const char* field : {"Pre-Depends", "Depends"}) {
      auto needs = fields_.find(field);
      if (needs == fields_.end()) continue;
      for (std::string_view need : split(needs->second, ',')) result.needs.emplace_back(trim(need));
    }
    for (std::string_view line :
         split(control_.contains("conffiles") ? control_.at("conffiles") : "", '\n')) {
      line = trim(line);
      if (!line.empty()) result.configuration.push_back(clean_path(line.substr(line.find_first_not_of('/'))));
    }
    if (control_.contains("triggers"))
      result.notes.emplace_back("it reacts to changes by other packages (triggers)");
    return result;
  }

 private:
  static Expected expect(const Bytes& digest) { return {std::nullopt, std::nullopt, "md5", digest}; }

  Facts about() const {
    Facts facts;
    for (auto [name, label] : kAbout) {
      auto field = fields_.find(std::string(name));
      if (field != fields_.end())
        facts.emplace_back(label, field->second.substr(0, field->second.find('\n')));
    }
    return facts;
  }

  ContainerPtr data_;
  bool checked_;                                // the compressed stream around the files has a checksum
  std::map<std::string, std::string> control_;  // the files of the control archive
  std::map<std::string, std::string> fields_;
  Digests digests_;
};

struct Member {
  ContainerPtr archive;
  bool checked = false;
};

/// The archive in a member of the package.
Member open_member(Container& members, std::string_view stem, OpenContext& context) {
  std::span<const Entry> entries = members.entries();
  for (std::size_t i = 0; i < entries.size(); ++i) {
    if (!entries[i].path.starts_with(stem)) continue;
    Unwrapped tar = unwrapped(members.content(i), context);
    return {tar_format().open({tar.content, entries[i].path}, context), tar.checked};
  }
  throw Malformed(fmt::format("the package has no \"{}\": it is damaged or cut short", stem));
}

std::map<std::string, std::string> read_control(Container& archive) {
  std::map<std::string, std::string> files;
  std::uint64_t total = 0;
  archive.walk([&](const Visit& visit) {
    if (!visit.entry.has_data() || visit.entry.size > kMostControl) return true;
    StreamPtr own = visit.stream == nullptr ? visit.content->stream() : nullptr;
    Bytes raw = read_all(own ? *own : *visit.stream, kMostControl);
    total += raw.size();
    files[visit.entry.path] = as_text(raw);
    return files.size() < kMostControlFiles && total < kMostControlTotal;
  });
  return files;
}

Match recognise_deb(Probe& probe) {
  return starts_with(probe.head(kFront.size()), kFront) ? Match::front : Match::none;
}

ContainerPtr open_deb(const Input& input, OpenContext& context) {
  ContainerPtr members = ar_format().open(input, context);
  if (context.view == "stored") return members;
  std::map<std::string, std::string> control;
  std::string trouble;
  try {
    control = read_control(*open_member(*members, "control.tar", context).archive);
  } catch (const Error& error) {
    trouble = error.what();
  }
  Member data;
  try {
    data = open_member(*members, "data.tar", context);
  } catch (const Error& error) {
    members->add_finding(Finding::Level::fault, fmt::format("the files cannot be listed: {}", error.what()));
    return members;
  }
  auto view = std::make_shared<InstalledView>(data.archive, data.checked, members, std::move(control));
  if (!trouble.empty())
    view->add_finding(Finding::Level::fault, fmt::format("the control archive cannot be read: {}", trouble));
  for (const Finding& finding : members->findings()) view->add_finding(finding.level, finding.text);
  return view;
}

}  // namespace

Format deb_format() {
  return {
      .id = "deb",
      .name = "Debian package",
      .family = "package",
      .specification = "deb(5), format 2.0",
      .reads =
          "the tree that is installed, with its digests; control file and scripts; the members (view stored)",
      .lacks = "checking of signatures",
      .suffixes = {".deb", ".udeb"},
      .views = {"installed", "stored"},
      .recognise = recognise_deb,
      .open = open_deb};
}

}  // namespace operculum
