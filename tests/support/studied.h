#pragma once

#include <string>
#include <vector>

#include "container/format.h"

namespace operculum::test {

struct File {
  std::string name;
  Bytes data;
  bool operator==(const File&) const = default;
};

/// Files of noise with made-up names, for a small pack.
std::vector<File> exhibits(std::size_t count);

/// The name with zeros behind it, up to so many bytes.
std::string padded(const std::string& name, std::size_t size);

/// The file that a description opens.
ContainerPtr opened_by(const std::string& draft, const SourcePtr& source, OpenContext& context);
/// All that is in it.
std::vector<File> files_in(Container& container);

/// What a study of the bytes drafts, and what that finds in them; "none" where it is not sure of any.
struct Studied {
  std::string draft;
  std::vector<File> files;
};
Studied studied(const Bytes& bytes, std::vector<std::uint64_t> anchors, OpenContext& context);
Studied studied(const Bytes& bytes, std::vector<std::uint64_t> anchors = {});

}  // namespace operculum::test
