#pragma once

#include <functional>
#include <span>
#include <string_view>
#include <vector>

#include "cipher/key_ring.h"
#include "container/beside.h"
#include "container/container.h"
#include "container/known_record.h"
#include "container/limits.h"
#include "container/probe.h"
#include "io/http_client.h"
#include "io/spool.h"

namespace operculum {

struct Format;
class Assembly;
struct NewEntry;
struct Writing;

/// What a format needs beside the bytes. Shared by all containers of one run; outlives them.
struct OpenContext {
  OpenContext();
  ~OpenContext();
  OpenContext(const OpenContext&) = delete;
  OpenContext& operator=(const OpenContext&) = delete;

  /// A context for another thread: the same settings, keys and formats, and guards that count by themselves.
  std::unique_ptr<OpenContext> for_thread() const;

  Limits limits;
  std::string view;      ///< which of several trees to show, by a name in Format::views; empty: the richest
  std::string names_in;  ///< encoding of names that do not say theirs; empty: the format's own rule
  KeyRing keys;
  HttpOptions http;   ///< how servers are talked to, where a person names one
  bool once = false;  ///< the target is read once, from its front on: what comes in on a pipe is not kept
  SpoolBudget spool;
  /// Asks whether a description that is not the user's own may have a key of theirs; nobody says yes by
  /// itself.
  std::function<bool(const std::string& description, const std::string& key)> may_have_key =
      [](const std::string&, const std::string&) { return false; };
  std::vector<std::string> known_names;  ///< paths that packs may hold under a hash alone
  std::vector<Format> preferred;         ///< formats that the user named: tried before all others
  std::function<std::span<const Format>()> described;  ///< formats found beside the program's own: tried then
  std::vector<Format>
      searched;  ///< go before what others find within the bytes, behind what they find in front
};

/// The bytes to open as a container, and where they came from.
struct Input {
  ContentPtr content;
  std::string name;     ///< file or entry name, for ties, messages and key patterns; may be empty
  Beside sibling = {};  ///< what lies beside it
};

/// How sure a recogniser is. Stronger wins; among equals the registry's order decides.
enum class Match {
  none,
  weak,    ///< fits, but so would chance now and then: taken only when the name agrees
  inside,  ///< strict structure, but not at the front: something else may be wrapped around it
  front,   ///< strict structure from the first byte on
};

/// What of an entry is kept where a container is made from scratch.
struct Keeps {
  bool folders = true, links = true, hard_links = true, devices = false, modes = true, owners = true,
       attributes = false;
};

/// Knows one kind of container.
struct Format {
  std::string_view id;                       ///< short and stable: "zip"
  std::string_view name;                     ///< "ZIP archive"
  std::string_view family;                   ///< "archive", "stream", ...
  std::string_view specification;            ///< and the edition followed
  std::string_view reads;                    ///< features, for `operculum formats`
  std::string_view lacks;                    ///< features answered with Unsupported
  std::string_view writes = {};              ///< what can be written back; empty: nothing
  std::vector<std::string_view> suffixes;    ///< usual file name endings, lower case, with the dot
  std::vector<std::string_view> views = {};  ///< trees that can be asked for by name
  std::string_view kind = "container";       ///< what a person sorts such a file as, see KindReader
  bool carries = false;         ///< a program or a dump: what is wanted of it is most often what it carries
  bool single_stream = false;   ///< holds one unnamed stream: the locator steps through it
  bool forward = false;         ///< needs no more of the bytes than that they come one after another
  std::string_view codec = {};  ///< of that stream, when a file of it can be made from scratch by this alone
  bool checks_data = false;     ///< a checksum over all unpacked bytes is always there, and compared
  bool own_order =
      false;  ///< written entries lie in an order of the format's own, folders above them are made
  bool later_replaces = false;  ///< an entry stored again is meant to replace the earlier one

  std::function<Match(Probe&)> recognise;
  /// Throws Malformed when not even a part can be listed.
  std::function<ContainerPtr(const Input&, OpenContext&)> open;
  /// A new container of these entries, in their order; not there for formats that are not made from scratch,
  /// and for those with a codec, which takes its place.
  std::function<Assembly(const std::vector<NewEntry>&, const Writing&)> pack = {};
  Keeps keeps = {};                       ///< by `pack`
  std::vector<KnownRecord> records = {};  ///< that a file of it can be shown by, field by field
};

/// All formats this program knows by itself, in order of preference.
const std::vector<Format>& formats();

/// The format whose usual name endings fit, of `context` too where it is given; nothing when none does.
const Format* format_for_name(std::string_view name, const OpenContext* context = nullptr);

}  // namespace operculum
