#pragma once

#include <functional>
#include <string>

#include "support/sample_tree.h"

namespace operculum::test {

struct RpmOptions {
  std::string codec = "gzip";  ///< "gzip", "xz", "zstd", "bzip2", "lzma-alone" or "stored"
  bool nameless = false;       ///< the payload form without names, for large files
  unsigned digest = 8;         ///< 1: MD5, 8: SHA-256
  std::string post = {};       ///< a script that is run after unpacking
};

/// An RPM package of the tree: files, folders, symbolic links, hard links.
Bytes make_rpm(const SampleTree& tree, const RpmOptions& options = {});

struct XarOptions {
  std::string encoding = "application/x-gzip";
  std::string sum = "sha1";
  std::string note = {};  ///< an extended attribute "note" that every file gets
};

Bytes make_xar(const SampleTree& tree, const XarOptions& options = {});

struct WimOptions {
  enum class Packing { none, xpress, lzx } packing = Packing::lzx;
  bool solid = false;
  unsigned images = 1;
  std::size_t parts = 1;      ///< of a split set: files take turns
  std::string streamed = {};  ///< a file that gets an alternate stream "notes"
};

/// A Windows imaging archive; all parts of a split set in order.
std::vector<Bytes> make_wim(const SampleTree& tree, const WimOptions& options = {});

/// A Debian package by its members, written by us alone.
Bytes make_deb(const SampleTree& tree, const std::string& postinst);

/// Chunks of an installer payload, packed as xz or left plain where that is shorter.
Bytes make_chunked_xz(ByteView plain, std::size_t chunk);

}  // namespace operculum::test
