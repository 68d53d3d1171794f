#pragma once

#include <map>
#include <string>
#include <vector>

#include "io/source.h"

namespace operculum::rpm {

/// Numbers of values in the signature header.
enum SignatureTag : std::uint32_t { kSha1Header = 269, kLongSize = 270, kSha256Header = 273, kSize = 1000 };

/// Numbers of values in the header.
enum Tag : std::uint32_t {
  kName = 1000,
  kVersion = 1001,
  kRelease = 1002,
  kSummary = 1004,
  kVendor = 1011,
  kLicence = 1014,
  kUrl = 1020,
  kArchitecture = 1022,
  kBeforeInstall = 1023,
  kAfterInstall = 1024,
  kBeforeRemove = 1025,
  kAfterRemove = 1026,
  kFileSizes = 1028,
  kFileModes = 1030,
  kFileDevices = 1033,
  kFileTimes = 1034,
  kFileDigests = 1035,
  kFileLinks = 1036,
  kFileFlags = 1037,
  kFileOwners = 1039,
  kFileGroups = 1040,
  kRequires = 1049,
  kTriggerScripts = 1065,
  kBeforeInstallProgram = 1085,
  kAfterInstallProgram = 1086,
  kBeforeRemoveProgram = 1087,
  kAfterRemoveProgram = 1088,
  kFileInodeDevices = 1095,
  kFileInodes = 1096,
  kFolderIndexes = 1116,
  kBaseNames = 1117,
  kFolderNames = 1118,
  kPayloadFormat = 1124,
  kPayloadCodec = 1125,
  kBeforeTransaction = 1151,
  kAfterTransaction = 1152,
  kBeforeTransactionProgram = 1153,
  kAfterTransactionProgram = 1154,
  kOldFileNames = 1027,
  kLongFileSizes = 5008,
  kFileDigestKind = 5011,
  kPayloadDigest = 5092,
  kPayloadDigestKind = 5093,
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

}  // namespace operculum::rpm
