// A device tree as a container: nodes are folders, properties are files.
#include <fmt/format.h>

#include "base/cursor.h"
#include "base/error.h"
#include "base/text.h"
#include "format/firmware/device_tree.h"
#include "format/firmware/firmware_parts.h"
#include "format/firmware/formats.h"

namespace operculum {
namespace {

using namespace fdt;

std::string type_of(const Property& property) {
  if (property.size == 0) return "flag";
  if (property.value.empty()) return "bytes";
  if (is_strings(property.value))
    return std::count(property.value.begin(), property.value.end(), Byte{0}) > 1 ? "texts" : "text";
  return property.value.size() % 4 == 0 ? "cells" : "bytes";
}

/// What a person wants to know of a property in a listing: a text, or a single number.
std::string gist_of(const Property& property) {
  constexpr std::size_t kMost = 60;
  if (is_strings(property.value) && property.value.size() <= kMost) {
    std::string text(as_text(ByteView(property.value).first(property.value.size() - 1)));
    std::replace(text.begin(), text.end(), '\0', ' ');
    return text;
  }
  return property.value.size() == 4 ? hex_number(Cursor(property.value, "cell").u32be()) : "";
}

void add_node(const Node& node, const std::string& folder, Firmware& out) {
  for (const Property& one : node.properties) {
    std::string name = as_path_part(one.name);
    if (node.node(one.name) != nullptr) name += ".property";  // of the same name as a node beside it
    out.parts.push_back({.path = folder + name,
                         .type = type_of(one),
                         .at = one.at,
                         .size = one.size,
                         .comment = gist_of(one)});
  }
  for (const Node& one : node.nodes) {
    std::string path = folder + as_path_part(one.name);
    out.parts.push_back({.path = path, .kind = EntryKind::folder});
    add_node(one, path + "/", out);
  }
}

Match recognise_device_tree(Probe& probe) {
  return begins_tree(probe) ? Match::front : Match::none;
}

ContainerPtr open_device_tree(const Input& input, OpenContext& context) {
  SourcePtr bytes = random_access(*input.content, context.spool);
  Tree tree = read_tree(bytes);
  Firmware out;
  if (std::string model = tree.root.string("model"); !model.empty()) out.facts.emplace_back("model", model);
  if (std::string fits = tree.root.string("compatible"); !fits.empty())
    out.facts.emplace_back("compatible", fits);
  out.facts.emplace_back("version", std::to_string(tree.version));
  bool overlay = std::any_of(tree.root.nodes.begin(), tree.root.nodes.end(), [](const Node& one) {
    return one.name.starts_with("fragment@") || one.name == "__fixups__";
  });
  if (overlay) out.facts.emplace_back("kind", "overlay");
  for (auto [at, size] : tree.reserved)
    out.facts.emplace_back("reserved memory", fmt::format("{} bytes at {:#x}", size, at));
  out.text = source_text(tree);
  add_node(tree.root, "", out);
  add_what_is_behind(*bytes, tree.total_size, out);
  return make_firmware(std::move(bytes), std::move(out));
}

}  // namespace

Format device_tree_format() {
  return {.id = "device-tree",
          .name = "device tree",
          .family = "firmware",
          .specification = "Devicetree Specification 0.4, chapter 5",
          .reads = "blobs of versions 16 and 17, overlays, reserved memory; as source text with `show`",
          .lacks = "versions before 16",
          .suffixes = {".dtb", ".dtbo"},
          .recognise = recognise_device_tree,
          .open = open_device_tree};
}

}  // namespace operculum
