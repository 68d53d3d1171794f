// Flattened device trees (Devicetree Specification 0.4, chapter 5; versions 1 to 17): a header, memory that
// is reserved, a block of tokens (node begins, node ends, property, nothing, end) at multiples of 4 bytes,
// and a block of names that properties refer to. All numbers have their highest byte first.
#include "format/firmware/device_tree.h"

#include <fmt/format.h>

#include "base/cursor.h"
#include "base/depth_guard.h"
#include "base/structure.h"
#include "base/text.h"
#include "io/cached_source.h"

namespace operculum::fdt {
namespace {

struct Header {
  std::uint32_t magic = 0, totalsize = 0, off_dt_struct = 0, off_dt_strings = 0, off_mem_rsvmap = 0,
                version = 0, last_comp_version = 0, boot_cpuid_phys = 0, size_dt_strings = 0,
                size_dt_struct = 0;
  static constexpr auto layout = big_endian(
      field("magic", &Header::magic), field("totalsize", &Header::totalsize),
      field("off_dt_struct", &Header::off_dt_struct), field("off_dt_strings", &Header::off_dt_strings),
      field("off_mem_rsvmap", &Header::off_mem_rsvmap), field("version", &Header::version),
      field("last_comp_version", &Header::last_comp_version),
      field("boot_cpuid_phys", &Header::boot_cpuid_phys), field("size_dt_strings", &Header::size_dt_strings),
      field("size_dt_struct", &Header::size_dt_struct));
};

enum Token : std::uint32_t { begin_node = 1, end_node = 2, prop = 3, nop = 4, end = 9 };

constexpr std::uint32_t kLeastVersion = 16, kNewest = 17;
constexpr int kDeepest = 64;
constexpr std::size_t kLongestName = 4096, kMostReserved = 4096;

constexpr std::size_t kMostNodes = 1'000'000;
constexpr std::size_t kKeptValue = 64 * 1024, kMostNames = 16 << 20;  // bytes

/// The block of tokens, read as far as it is needed.
class Tokens {
 public:
  Tokens(const SourcePtr& bytes, std::uint64_t begin, std::uint64_t end)
      : bytes_(make_cached(bytes)), begin_(begin), at_(begin), end_(end) {}

  std::uint64_t at() const { return at_; }
  std::uint32_t number() { return Cursor(take(4), "device tree", at_ - 4).u32be(); }
  Bytes take(std::uint64_t count) {
    pass(count);
    return read_exactly(*bytes_, at_ - count, count, "device tree");
  }
  void pass(std::uint64_t count) {
    if (count > end_ - at_)
      throw Malformed(fmt::format("device tree at offset {}: expected {} bytes, {} are left of its structure",
                                  at_, count, end_ - at_));
    at_ += count;
  }
  void align() { pass(std::min<std::uint64_t>((4 - (at_ - begin_) % 4) % 4, end_ - at_)); }

  std::string name() {
    std::string out;
    while (Byte c = take(1)[0]) {
      if (out.size() == kLongestName) throw Malformed("device tree: the name of a node does not end");
      out += static_cast<char>(c);
    }
    align();
    return out;
  }

 private:
  SourcePtr bytes_;
  std::uint64_t begin_, at_, end_;
};

class Reader {
 public:
  Reader(const SourcePtr& bytes, const Header& header)
      : names_(read_up_to(*bytes, header.off_dt_strings,
                          std::min<std::uint64_t>(kMostNames, header.totalsize - header.off_dt_strings))),
        tokens_(bytes, header.off_dt_struct, end_of(header)) {}

  Node root() {
    std::uint32_t first = next();
    if (first != begin_node) refuse("a node to begin", first);
    return node();
  }

 private:
  static std::uint64_t end_of(const Header& header) {
    if (header.version < kNewest || header.size_dt_struct == 0) return header.totalsize;
    return std::min<std::uint64_t>(header.totalsize,
                                   std::uint64_t{header.off_dt_struct} + header.size_dt_struct);
  }

  [[noreturn]] void refuse(std::string_view expected, std::uint32_t found) const {
    throw Malformed(fmt::format("device tree at offset {}: expected {}, found token {:#x}", tokens_.at() - 4,
                                expected, found));
  }

  std::uint32_t next() {
    for (;;) {
      std::uint32_t token = tokens_.number();
      if (token != nop) return token;
    }
  }

  Node node() {
    DepthGuard guard(depth_, kDeepest,
                     [] { throw LimitExceeded("device tree: more than 64 nodes within each other"); });
    if (++count_ > kMostNodes) throw LimitExceeded("device tree: more than a million nodes and properties");
    Node out;
    out.name = tokens_.name();
    for (;;) {
      std::uint32_t token = next();
      if (token == end_node) return out;
      if (token == begin_node) {
        out.nodes.push_back(node());
      } else if (token == prop) {
        out.properties.push_back(property());
      } else {
        refuse("a property, a node or an end", token);
      }
    }
  }

  Property property() {
    if (++count_ > kMostNodes) throw LimitExceeded("device tree: more than a million nodes and properties");
    Property out;
    out.size = tokens_.number();
    out.name = name_at(tokens_.number());
    out.at = tokens_.at();
    if (out.size <= kKeptValue) {
      out.value = tokens_.take(out.size);
    } else {
      tokens_.pass(out.size);
    }
    tokens_.align();
    return out;
  }

  std::string name_at(std::uint32_t at) const {
    if (at >= names_.size())
      throw Malformed(fmt::format(
          "device tree: the name of a property at {} lies beyond the {} bytes of names", at, names_.size()));
    std::string_view name = as_text(names_).substr(at, kLongestName);
    return std::string(until_zero(name));
  }

  Bytes names_;
  Tokens tokens_;
  int depth_ = 0;
  std::size_t count_ = 0;
};

// ---- source text

std::string quoted(std::string_view text) {
  std::string out = "\"";
  for (char c : text) {
    if (c == '"' || c == '\\') out += '\\';
    out += c;
  }
  return out + "\"";
}

std::string value_text(const Property& property, std::size_t most) {
  ByteView value = property.value;
  if (property.size > most) return fmt::format("/* {} bytes */", property.size);
  std::string out;
  if (is_strings(value)) {
    std::string_view text = as_text(value.first(value.size() - 1));
    for (std::string_view one : split(text, '\0')) out += (out.empty() ? "" : ", ") + quoted(one);
    return out;
  }
  bool cells = value.size() % 4 == 0;
  for (std::size_t at = 0; at < value.size(); at += cells ? 4 : 1) {
    if (at > 0) out += ' ';
    out += cells ? fmt::format("{:#x}", Cursor(value.subspan(at, 4), "cell").u32be())
                 : fmt::format("{:02x}", value[at]);
  }
  return cells ? "<" + out + ">" : "[" + out + "]";
}

void print(const Node& node, std::string& out, const std::string& indent, std::size_t most) {
  out += indent + (node.name.empty() ? "/" : printable(node.name)) + " {\n";
  for (const Property& one : node.properties) {
    out += indent + "\t" + printable(one.name);
    if (one.size > 0) out += " = " + value_text(one, most);
    out += ";\n";
  }
  for (const Node& one : node.nodes) print(one, out, indent + "\t", most);
  out += indent + "};\n";
}

}  // namespace

const Property* Node::property(std::string_view wanted) const {
  auto found = std::find_if(properties.begin(), properties.end(),
                            [&](const Property& one) { return one.name == wanted; });
  return found == properties.end() ? nullptr : &*found;
}

const Node* Node::node(std::string_view wanted) const {
  auto found = std::find_if(nodes.begin(), nodes.end(), [&](const Node& one) { return one.name == wanted; });
  return found == nodes.end() ? nullptr : &*found;
}

std::string Node::string(std::string_view wanted) const {
  const Property* found = property(wanted);
  if (found == nullptr) return "";
  std::string_view text = as_text(found->value);
  return std::string(until_zero(text));
}

std::optional<std::uint64_t> Node::number(std::string_view wanted) const {
  const Property* found = property(wanted);
  if (found == nullptr || (found->value.size() != 4 && found->value.size() != 8)) return std::nullopt;
  Cursor cursor(found->value, "cells");
  return found->value.size() == 4 ? cursor.u32be() : cursor.u64be();
}

bool begins_tree(Probe& probe) {
  ByteView head = probe.head(size_on_disk<Header>);
  if (head.size() < size_on_disk<Header>) return false;
  auto header = read_structure<Header>(head.data());
  return header.magic == kMagic && header.version >= kLeastVersion && header.last_comp_version <= kNewest &&
         header.totalsize >= size_on_disk<Header> && header.off_dt_struct < header.totalsize &&
         header.off_dt_strings <= header.totalsize && header.off_dt_struct % 4 == 0;
}

Tree read_tree(const SourcePtr& bytes) {
  Bytes head = read_exactly(*bytes, 0, size_on_disk<Header>, "device tree header");
  auto header = read_structure<Header>(head.data());
  if (header.totalsize > bytes->size())
    throw CutShort(fmt::format("device tree: it states {} bytes, the file has {}; it is cut short",
                               header.totalsize, bytes->size()));
  if (header.off_dt_struct > header.totalsize || header.off_dt_strings > header.totalsize)
    throw Malformed(fmt::format("device tree: its blocks at offsets {} and {} lie beyond its {} bytes",
                                header.off_dt_struct, header.off_dt_strings, header.totalsize));
  Tree tree;
  tree.version = header.version;
  tree.total_size = header.totalsize;
  Bytes reserved = read_up_to(*bytes, header.off_mem_rsvmap, kMostReserved * 16);
  for (Cursor map(reserved, "reserved memory", header.off_mem_rsvmap); map.left() >= 16;) {
    std::uint64_t at = map.u64be(), size = map.u64be();
    if (at == 0 && size == 0) break;
    tree.reserved.emplace_back(at, size);
  }
  tree.root = Reader(bytes, header).root();
  return tree;
}

bool is_strings(ByteView value) {
  if (value.empty() || value.back() != 0 || value.front() == 0) return false;
  for (std::size_t i = 0; i < value.size(); ++i) {
    if (value[i] == 0 ? i > 0 && value[i - 1] == 0 : value[i] < 0x20 || value[i] > 0x7E) return false;
  }
  return true;
}

std::string source_text(const Tree& tree, std::size_t most) {
  std::string out = "/dts-v1/;\n\n";
  for (auto [at, size] : tree.reserved) out += fmt::format("/memreserve/ {:#x} {:#x};\n", at, size);
  print(tree.root, out, "", most);
  return out;
}

}  // namespace operculum::fdt
