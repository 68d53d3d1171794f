#include "support/kernel_images.h"

#include <filesystem>
#include <fstream>

#include "base/checksum.h"
#include "base/text.h"
#include "container/parts.h"
#include "io/file_source.h"
#include "support/program.h"
#include "support/system_tools.h"

namespace operculum::test {
namespace {

std::string in_fixtures(const std::string& name) {
  return std::string(OPERCULUM_SOURCE) + "/tests/fixtures/kernel/" + name;
}

std::string cut(const std::string& path, std::size_t most) {
  std::string out;
  for (std::string_view part : split(path, '/')) {
    if (!out.empty()) out += '/';
    out += part.substr(0, most);
  }
  return out;
}

}  // namespace

KernelImages::KernelImages(const std::string& set) {
  Ran ran = tool("tar", {"xf", in_fixtures(set + ".tar.xz")}, folder_.path());
  if (ran.exit_code != 0) throw std::runtime_error("tar: " + ran.err);
}

void KernelImages::remove(const std::string& name) const {
  std::filesystem::remove(folder_.path(name));
}

void KernelImages::hide(const std::string& name, bool hidden) const {
  std::string seen = folder_.path(name), unseen = folder_.path("." + name);
  std::filesystem::rename(hidden ? seen : unseen, hidden ? unseen : seen);
}

Held KernelImages::open(const std::string& name, const std::function<void(OpenContext&)>& set_up) const {
  Held held;
  held.context = std::make_unique<OpenContext>();
  set_up(*held.context);
  std::string whole = path(name);
  held.opened = open_container({make_content(open_file(whole)), name, file_sibling(whole)}, *held.context);
  return held;
}

const DeviceSum& device_sum(const std::string& name) {
  static const std::map<std::string, DeviceSum> all = [] {
    std::map<std::string, DeviceSum> out;
    std::ifstream file(in_fixtures("sums.txt"));
    std::string device;
    DeviceSum sum;
    while (file >> device >> sum.size >> sum.sha256) out[device] = sum;
    return out;
  }();
  return all.at(name);
}

DeviceSum sum_of_entry(Container& container, std::size_t index) {
  StreamPtr stream = container.content(index)->stream();
  DeviceSum out;
  Sha256 sum;
  Bytes buffer(1 << 20);
  while (std::size_t got = stream->read(buffer)) {
    sum.add(ByteView(buffer).first(got));
    out.size += got;
  }
  out.sha256 = sum.finish_hex();
  return out;
}

SampleTree kernel_tree(std::size_t most, bool links) {
  SampleTree tree = links ? sample_tree_with_links() : sample_tree();
  for (SampleNode& node : tree) {
    node.path = cut(node.path, most);
    if (node.path == "gauge/noise.bin") node.data = noise(9001);
  }
  std::string holes(900'003, '\0');
  holes.replace(0, 5, "begin").replace(900'000, 3, "end");
  tree.push_back({.path = "holes.bin", .data = to_bytes(holes)});
  if (!links) return tree;
  tree.push_back({.path = "again.txt", .data = to_bytes("pinch\n")});
  tree.push_back({.path = "pipe", .kind = EntryKind::fifo});
  tree.push_back({.path = "gauge/port", .kind = EntryKind::character_device});
  return tree;
}

}  // namespace operculum::test
