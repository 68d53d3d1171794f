#include "format/firmware/partition_line.h"

#include <fmt/format.h>

#include "base/error.h"
#include "base/text.h"
#include "format/firmware/device_tree.h"
#include "format/firmware/firmware_parts.h"

namespace operculum {
namespace {

/// "256k", "0x40000", "4m": a number and its unit, taken off the front of `text`.
std::uint64_t take_size(std::string_view& text, std::string_view line) {
  std::size_t digits = text.starts_with("0x") || text.starts_with("0X") ? 2 : 0, end = digits;
  bool hex = digits == 2;
  auto is_digit = [&](char c) {
    return (c >= '0' && c <= '9') || (hex && ((c >= 'a' && c <= 'f') || (c >= 'A' && c <= 'F')));
  };
  while (end < text.size() && is_digit(text[end])) ++end;
  auto number = parse_number(text.substr(digits, end - digits), hex ? 16 : 10);
  if (!number)
    throw Malformed(fmt::format("--parts: expected a size at \"{}\" of \"{}\"", escape(text), escape(line)));
  text.remove_prefix(end);
  constexpr std::string_view kUnits = "kmgKMG";
  std::size_t unit = text.empty() ? std::string_view::npos : kUnits.find(text[0]);
  if (unit == std::string_view::npos) return *number;
  text.remove_prefix(1);
  unsigned shift = 10 * (static_cast<unsigned>(unit % 3) + 1);
  if (*number >> (63 - shift) != 0) throw Malformed("--parts: a size that is too large for any chip");
  return *number << shift;
}

FlashPartition take_partition(std::string_view text, std::uint64_t& next, std::string_view line) {
  FlashPartition out;
  if (text.starts_with("-")) {
    out.rest = true;
    text.remove_prefix(1);
  } else {
    out.size = take_size(text, line);
  }
  out.at = next;
  if (text.starts_with("@")) {
    text.remove_prefix(1);
    out.at = take_size(text, line);
  }
  if (text.starts_with("(")) {
    std::size_t end = text.find(')');
    if (end == std::string_view::npos)
      throw Malformed(fmt::format("--parts: a name without its end in \"{}\"", escape(line)));
    out.name = text.substr(1, end - 1);
    text.remove_prefix(end + 1);
  }
  while (text.size() >= 2) {  // "ro" and "lk", in any order
    if (!text.starts_with("ro") && !text.starts_with("lk") && !text.starts_with("slc")) break;
    out.read_only = out.read_only || text.starts_with("ro");
    text.remove_prefix(text.starts_with("slc") ? 3 : 2);
  }
  if (!text.empty())
    throw Malformed(fmt::format(
        "--parts: expected a comma at \"{}\" of \"{}\"; a part is SIZE@OFFSET(NAME), such as 256k(boot)",
        escape(text), escape(line)));
  next = out.at + out.size;
  return out;
}

/// The first node, in the order of the tree, that is a table of partitions.
const fdt::Node* find_table(const fdt::Node& node) {
  if (node.string("compatible") == "fixed-partitions") return &node;
  for (const fdt::Node& one : node.nodes) {
    if (const fdt::Node* found = find_table(one)) return found;
  }
  return nullptr;
}

std::uint64_t cells(ByteView value, std::size_t at, std::size_t count) {
  std::uint64_t number = 0;
  for (std::size_t i = at * 4; i < (at + count) * 4 && i < value.size(); ++i) number = number << 8 | value[i];
  return number;
}

}  // namespace

std::vector<FlashPartition> read_partition_line(std::string_view line) {
  std::string_view text = trim(line);
  constexpr std::string_view kWord = "mtdparts=";
  if (text.starts_with(kWord)) text.remove_prefix(kWord.size());
  text = text.substr(0, text.find(';'));
  if (std::size_t colon = text.find(':'); colon != std::string_view::npos && colon < text.find('('))
    text.remove_prefix(colon + 1);
  std::vector<FlashPartition> out;
  std::uint64_t next = 0;
  for (std::string_view part : split(text, ',')) {
    if (!out.empty() && out.back().rest)
      throw Malformed("--parts: something follows the part that takes the rest");
    out.push_back(take_partition(trim(part), next, line));
  }
  return out;
}

std::vector<FlashPartition> read_tree_partitions(const SourcePtr& tree) {
  fdt::Tree whole = fdt::read_tree(tree);
  const fdt::Node* table = find_table(whole.root);
  if (table == nullptr)
    throw Malformed("--parts: the device tree has no node with compatible = \"fixed-partitions\"");
  auto at_cells = static_cast<std::size_t>(table->number("#address-cells").value_or(1));
  auto size_cells = static_cast<std::size_t>(table->number("#size-cells").value_or(1));
  std::vector<FlashPartition> out;
  for (const fdt::Node& one : table->nodes) {
    const fdt::Property* reg = one.property("reg");
    if (reg == nullptr || reg->value.size() < (at_cells + size_cells) * 4) continue;
    std::string label = one.string("label");
    out.push_back({label.empty() ? one.name : label, cells(reg->value, 0, at_cells),
                   cells(reg->value, at_cells, size_cells), false, one.property("read-only") != nullptr});
  }
  return out;
}

}  // namespace operculum
