#pragma once

#include <map>
#include <string>
#include <vector>

#include "container/known_record.h"
#include "io/source.h"

namespace operculum::rpm {

/// Numbers of values in the signature header.
enum SignatureTag : std::uint32_t {
  sha1_signature_tag = 269,
  longsize_signature_tag = 270,
  sha256_signature_tag = 273,
  size_signature_tag = 1000
};

/// Numbers of values in the header.
enum Tag : std::uint32_t {
  name_tag = 1000,
  version_tag = 1001,
  release_tag = 1002,
  summary_tag = 1004,
  vendor_tag = 1011,
  license_tag = 1014,
  url_tag = 1020,
  arch_tag = 1022,
  prein_tag = 1023,
  postin_tag = 1024,
  preun_tag = 1025,
  postun_tag = 1026,
  filesizes_tag = 1028,
  filemodes_tag = 1030,
  filerdevs_tag = 1033,
  filemtimes_tag = 1034,
  filedigests_tag = 1035,
  filelinktos_tag = 1036,
  fileflags_tag = 1037,
  fileusername_tag = 1039,
  filegroupname_tag = 1040,
  requirename_tag = 1049,
  triggerscripts_tag = 1065,
  preinprog_tag = 1085,
  postinprog_tag = 1086,
  preunprog_tag = 1087,
  postunprog_tag = 1088,
  filedevices_tag = 1095,
  fileinodes_tag = 1096,
  dirindexes_tag = 1116,
  basenames_tag = 1117,
  dirnames_tag = 1118,
  payloadformat_tag = 1124,
  payloadcompressor_tag = 1125,
  pretrans_tag = 1151,
  posttrans_tag = 1152,
  pretransprog_tag = 1153,
  posttransprog_tag = 1154,
  oldfilenames_tag = 1027,
  longfilesizes_tag = 5008,
  filedigestalgo_tag = 5011,
  payloaddigest_tag = 5092,
  payloaddigestalgo_tag = 5093,
};

/// One header: values by tag (the RPM package format, "header structure").
class Header {
 public:
  /// Reads one at `at`; `end` is then where it ends. Throws Malformed.
  static Header read(const Source& bytes, std::uint64_t at);

  std::uint64_t begin() const { return begin_; }
  std::uint64_t end() const { return end_; }
  bool has(std::uint32_t tag) const { return values_.contains(tag); }

  std::string text(std::uint32_t tag) const;  ///< empty when there is none; the first of several
  std::vector<std::string> texts(std::uint32_t tag) const;
  std::vector<std::uint64_t> numbers(std::uint32_t tag) const;
  std::uint64_t number(std::uint32_t tag, std::uint64_t otherwise = 0) const;

 private:
  struct Value {
    std::uint32_t type, offset, count;
  };
  const Value* find(std::uint32_t tag) const;

  std::uint64_t begin_ = 0, end_ = 0;
  Bytes store_;
  std::map<std::uint32_t, Value> values_;
};

/// What begins the signature header.
KnownRecord known_intro(std::uint64_t at);

}  // namespace operculum::rpm
