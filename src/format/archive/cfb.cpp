// Compound files: [MS-CFB], versions 3 and 4. Documents, thumbnails and databases of many programs are such.
#include <fmt/format.h>

#include "base/error.h"
#include "base/fields.h"
#include "base/text.h"
#include "format/archive/cfb_file.h"
#include "format/filesystem/file_tree.h"
#include "format/formats.h"

namespace operculum {
namespace {

using namespace cfb;

class CfbContainer final : public Container {
 public:
  CfbContainer(const SourcePtr& bytes, const Limits& limits) : file_(bytes) {
    for (const std::string& trouble : file_.troubles()) add_finding(Finding::Level::fault, trouble);
    if (file_.stated_size() > bytes->size() + (std::uint64_t{1} << 16)) {
      add_finding(Finding::Level::fault, fmt::format("the file is cut short: its sectors take {} bytes, and "
                                                     "there are {}",
                                                     file_.stated_size(), bytes->size()));
    }
    std::vector<std::string> paths(file_.nodes().size());
    for (std::size_t i = 1; i < file_.nodes().size(); ++i) {
      const Node& node = file_.nodes()[i];
      paths[i] = node.parent == 0 ? node.name : paths[node.parent] + "/" + node.name;
      Entry entry;
      entry.path = paths[i];
      entry.kind = node.storage ? EntryKind::folder : EntryKind::file;
      entry.modified = node.modified;
      if (node.created.known()) entry.extras().created = node.created;
      if (!node.storage) entry.size = entry.stored_size = node.size;
      limits.count_kept(entry);
      limits.count_retained(paths[i].size());
      entries_.push_back(std::move(entry));
    }
  }

  std::span<const Entry> entries() override { return entries_; }
  ContentPtr content(std::size_t index) override {
    return make_content(file_.open(file_.nodes()[index + 1]));
  }

  std::vector<std::pair<std::string, std::string>> facts() override {
    std::vector<std::pair<std::string, std::string>> facts{{"version", std::to_string(file_.version())}};
    const Bytes& id = file_.nodes().front().class_id;
    if (std::any_of(id.begin(), id.end(), [](Byte b) { return b != 0; }))
      facts.emplace_back("class", guid_text(id));
    return facts;
  }

 private:
  CompoundFile file_;
  std::vector<Entry> entries_;
};

Match recognise_cfb(Probe& probe) {
  ByteView head = probe.head(kHeader);
  if (head.size() < kHeader || !std::equal(kMark.begin(), kMark.end(), head.begin())) return Match::none;
  LittleFields f(head, "compound file header");
  return f.u16(28) == 0xFFFE ? Match::front : Match::none;
}

ContainerPtr open_cfb(const Input& input, OpenContext& context) {
  return std::make_shared<CfbContainer>(random_access(*input.content, context.spool), context.limits);
}

}  // namespace

Format cfb_format() {
  return {.id = "cfb",
          .name = "compound file",
          .family = "archive",
          .specification = "[MS-CFB]",
          .reads = "versions 3 and 4, long sector tables, short streams; storages as folders",
          .lacks = "",
          .suffixes = {".doc", ".xls", ".ppt", ".msg", ".db", ".suo", ".max", ".vsd", ".pub"},
          .kind = "document",
          .recognise = recognise_cfb,
          .open = open_cfb};
}

}  // namespace operculum
