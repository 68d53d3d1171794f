#pragma once

#include <functional>
#include <optional>

#include "container/probe.h"

namespace operculum::fdt {

constexpr std::uint32_t kMagic = 0xD00DFEED;

/// A property: its value lies in the blob as it is.
struct Property {
  std::string name;
  std::uint64_t at = 0, size = 0;  ///< of the value in the file, in bytes
  Bytes value;                     ///< empty where it is larger than 64 KiB: whole images may be values
};

/// A node with what is in it, in stored order.
struct Node {
  std::string name;  ///< with its unit address; empty for the root
  std::vector<Property> properties;
  std::vector<Node> nodes;

  const Property* property(std::string_view wanted) const;
  const Node* node(std::string_view wanted) const;
  std::string string(
      std::string_view wanted) const;  ///< of a property, up to its first zero byte; empty: none
  std::optional<std::uint64_t> number(std::string_view wanted) const;  ///< of a property of one or two cells
};

/// A device tree as its blob holds it.
struct Tree {
  std::uint32_t version = 0, total_size = 0;                      ///< bytes
  std::vector<std::pair<std::uint64_t, std::uint64_t>> reserved;  ///< memory: address and size
  Node root;
};

/// Whether some bytes begin with a header of a tree that makes sense.
bool begins_tree(Probe& probe);

/// Throws Malformed.
Tree read_tree(const SourcePtr& bytes);

/// Whether a value is one or several texts, each with its zero byte.
bool is_strings(ByteView value);

/// The tree as source text (Devicetree Specification, appendix A): values as texts where they are, else as
/// cells of 32 bits, else as bytes. Values above `most` bytes are left out, and told in a comment.
std::string source_text(const Tree& tree, std::size_t most = 4096);

}  // namespace operculum::fdt
