#pragma once

#include <string>

#include "support/byte_writer.h"

namespace operculum::test {

enum class TarStyle { v7, ustar, gnu };

/// One member to be written.
struct TarItem {
  std::string name;
  Bytes data;
  char typeflag = '0';
  std::string link;
  std::uint64_t mode = 0644;
  std::int64_t mtime = 1772373908;  // 2026-03-01 14:05:08 UTC
  std::string prefix;
  std::uint64_t device_major = 0, device_minor = 0;
};

/// Writes tar archives block by block.
class TarBuilder {
 public:
  explicit TarBuilder(TarStyle style = TarStyle::ustar) : style_(style) {}

  TarBuilder& add(const TarItem& item);
  TarBuilder& file(const std::string& name, std::string_view text) {
    return add({.name = name, .data = to_bytes(text)});
  }
  TarBuilder& folder(const std::string& name) {
    return add({.name = name + "/", .data = {}, .typeflag = '5', .mode = 0755});
  }
  TarBuilder& symbolic(const std::string& name, const std::string& to) {
    return add({.name = name, .data = {}, .typeflag = '2', .link = to, .mode = 0777});
  }
  TarBuilder& hard(const std::string& name, const std::string& to) {
    return add({.name = name, .data = {}, .typeflag = '1', .link = to});
  }
  /// A pax header in front of the next member ('x') or for all that follow ('g').
  TarBuilder& pax(const std::vector<std::pair<std::string, std::string>>& records, char typeflag = 'x');
  TarBuilder& raw(ByteView blocks);
  Bytes build() const;  ///< with the end mark
  const Bytes& blocks() const { return out_.view(); }

  /// One header block with a right checksum; `tail` goes into the bytes from 345 on (sparse maps and the
  /// like).
  static Bytes header(const TarItem& item, std::uint64_t size, TarStyle style, ByteView tail = {});

 private:
  TarStyle style_;
  ByteWriter out_;
};

}  // namespace operculum::test
