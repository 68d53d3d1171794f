#pragma once

#include "base/facts.h"
#include "container/locator.h"
#include "task/counts.h"
#include "task/region_map.h"

namespace operculum {

/// What a partition holds.
struct IdentifiedPart {
  std::string path, name, type;
  std::uint64_t size = 0;  ///< bytes
  std::string format;  ///< a Format's name, of several within each other "LUKS encrypted volume, holding ..."
  Facts facts;
  std::vector<Finding> findings;
};

/// A structure of a layer's format, as it lies there.
struct IdentifiedRecord {
  std::string_view name;
  std::uint64_t at = 0;  ///< in the layer's bytes
  std::vector<FieldRow> rows;
};

/// One layer of what a file really is.
struct IdentifiedLayer {
  const Format* format = nullptr;
  std::string name;               ///< of the file or entry it was found in
  std::uint64_t stored_size = 0;  ///< of that file or entry, in bytes; Entry::kUnknownSize when not known
  std::optional<Counts> counts;   ///< absent where counting would mean decoding everything
  std::uint64_t encrypted = 0;    ///< files
  bool sizes_known = true;
  std::string largest;
  std::uint64_t largest_bytes = 0;
  Facts facts;
  std::vector<Finding> findings;
  std::vector<IdentifiedPart> parts;      ///< of a partition table
  std::vector<IdentifiedRecord> records;  ///< where they were asked for
};

/// A format that recognises the bytes, and why it counts or does not.
struct IdentifiedClaim {
  const Format* format = nullptr;
  std::string_view reason;
};

/// The truth about one file, whatever its name says.
struct Identification {
  std::string target;
  std::uint64_t size = 0;
  std::vector<IdentifiedLayer> layers;
  std::string origin;                  ///< where the file was downloaded from, when it is marked
  std::string kind;                    ///< of a file that is no container: image, text, ...
  std::string media_type;              ///< likewise, "image/png"
  std::string description;             ///< likewise: what libmagic makes of it, a guess
  Facts volume;                        ///< what libblkid finds: type, version, label, uuid, ...
  std::optional<RegionMap> map;        ///< of firmware, tables of partitions, and files that were searched
  std::vector<std::string_view> also;  ///< other formats that the same bytes are, too
  bool within = false;  ///< the target is an entry, or a container in others: the last layer is what it is
  std::vector<IdentifiedClaim> claims;  ///< where they were asked for: every format that recognises the bytes
  std::vector<std::string> near_claims;  ///< likewise: why others do not, though they nearly do
  std::vector<Finding> findings;         ///< about the name, the size, the end
  std::string suggestion;                ///< a command that would be the next step
};

/// How much work may be done to describe a file.
struct IdentifyRequest {
  bool count_solid = false;  ///< decode solid layers to count what is in them
  bool claims = false;       ///< tell every format that recognises the bytes, not only the one that is taken
  bool records = false;      ///< show the structures by which a format is known, field by field
  bool map_disks = false;    ///< make the map of tables of partitions, too, whose parts are told anyway
};

Identification identify(const std::string& target, const IdentifyRequest& request, OpenContext& context);

}  // namespace operculum
