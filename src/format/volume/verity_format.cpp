#include <fmt/format.h>

#include "base/text.h"
#include "format/first_file.h"
#include "format/image/disk_image.h"
#include "format/volume/formats.h"
#include "format/volume/verity.h"
#include "io/locked_source.h"
#include "io/spool.h"

namespace operculum {
namespace {

using namespace verity;

Match recognise_verity(Probe& probe) {
  return starts_with(probe.head(kMark.size()), kMark) ? Match::front : Match::none;
}

DiskImage described(const Tree& tree, const Source& hashes) {
  DiskImage out;
  out.facts = {{"uuid", tree.uuid},
               {"hash", fmt::format("{}, type {}", escape(tree.algorithm), tree.hash_type)},
               {"salt", tree.salt.empty() ? "none" : to_hex(tree.salt)},
               {"blocks", fmt::format("{} of {} bytes", tree.data_blocks, tree.data_block)}};
  if (Bytes root = root_of(tree, hashes); !root.empty()) out.facts.emplace_back("root hash", to_hex(root));
  return out;
}

ContainerPtr open_verity(const Input& input, OpenContext& context) {
  SourcePtr file = random_access(*input.content, context.spool);
  Tree tree = read_tree(*file, 0);
  DiskImage image = described(tree, *file);
  image.bytes = make_locked(tree.data_size(), []() -> SourcePtr {
    throw NeedsKey(
        "this is only a hash tree: open the file with its data, and name this one with --hash-tree");
  });
  return make_disk_image(input, std::move(image));
}

}  // namespace

Format verity_format() {
  return {
      .id = "verity",
      .name = "dm-verity hash tree",
      .family = "volume",
      .specification = "Linux kernel, Documentation/admin-guide/device-mapper/verity.rst",
      .reads =
          "hashes of both types with all digests of OpenSSL; data in another file, or in front of the tree "
          "(--hash-tree), compared block by block, with a root hash that is told (--root-hash)",
      .lacks = "correction of errors, trees without a superblock",
      .single_stream = true,
      .recognise = recognise_verity,
      .open = open_verity,
      .records = {known_superblock()}};
}

Format told_verity_format(const SourcePtr& hashes, const std::optional<Bytes>& root) {
  Format out = verity_format();
  auto tree = std::make_shared<Tree>(find_tree(*hashes));
  out.recognise = recognise_first_file();
  out.open = [hashes, tree, root](const Input& input, OpenContext& context) {
    DiskImage image = described(*tree, *hashes);
    if (!root)
      image.findings.push_back(
          {Finding::Level::note,
           "the root hash was compared with nothing: name the one that you trust with --root-hash"});
    image.summed = true;
    image.bytes = make_verified(random_access(*input.content, context.spool), hashes, *tree, root);
    return make_disk_image(input, std::move(image));
  };
  return out;
}

}  // namespace operculum
