#include "support/system_tools.h"

#include <sys/stat.h>
#include <unistd.h>

#include <filesystem>

#include "io/file_source.h"

namespace operculum::test {

Ran tool(const std::string& program, const std::vector<std::string>& arguments, const std::string& folder) {
  return run(program, arguments, folder, {{"PATH", "/usr/sbin:/usr/bin:/sbin:/bin"}});
}

bool has_tool(const std::string& program) {
  for (const char* folder : {"/usr/sbin/", "/usr/bin/", "/sbin/", "/bin/"}) {
    if (access((folder + program).c_str(), X_OK) == 0) return true;
  }
  return false;
}

void write_tree(const TempFolder& folder, const std::string& name, const SampleTree& tree) {
  std::filesystem::create_directories(folder.path(name));
  for (const SampleNode& node : tree) {
    std::string path = folder.path(name + "/" + node.path);
    if (node.kind == EntryKind::folder) {
      std::filesystem::create_directories(path);
    } else if (node.kind == EntryKind::symbolic_link) {
      std::filesystem::create_symlink(node.target, path);
    } else if (node.kind == EntryKind::hard_link) {
      std::filesystem::create_hard_link(folder.path(name + "/" + node.target), path);
    } else {
      folder.write(name + "/" + node.path, ByteView(node.data));
    }
    if (node.kind != EntryKind::symbolic_link) chmod(path.c_str(), node.permissions());
  }
}

Held open_path(const std::string& path, const std::string& view) {
  Held held;
  held.context = std::make_unique<OpenContext>();
  held.context->view = view;
  held.opened = open_container({make_content(open_file(path)), path}, *held.context);
  return held;
}

std::string fact(Container& container, const std::string& name) {
  for (const auto& [own, value] : container.facts()) {
    if (own == name) return value;
  }
  return "";
}

}  // namespace operculum::test
