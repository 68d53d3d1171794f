#pragma once

#include <map>
#include <optional>
#include <set>
#include <string>
#include <tuple>

#include "layout/run/run.h"

namespace operculum::layout {

/// What each byte of a container is for.
struct CoverRange {
  enum class Kind { header, index, data, padding, unexplained };
  Kind kind;
  std::uint64_t begin, end;  ///< offsets in the file
};
std::string_view name_of(CoverRange::Kind kind);

/// Which of the fields that are read are kept.
struct TraceWish {
  std::size_t most = 0;             ///< of those that are wanted
  std::string only;                 ///< the name of a field or of a record around it; empty: all
  std::optional<std::uint64_t> at;  ///< an offset in the file that they contain
};

/// Collects what a run tells.
class Tracer final : public Observer {
 public:
  /// A field as it was read.
  struct Field {
    std::string name;
    std::string region;                   ///< empty: the file itself
    std::optional<std::uint64_t> offset;  ///< empty: it was worked out
    std::uint64_t size;
    std::string raw;  ///< its first bytes, in hexadecimal
    std::string value;
  };

  explicit Tracer(TraceWish wish = {}) : wish_(std::move(wish)) {}
  void enter(const std::string& name) override;
  void leave() override;
  void field(const std::string& name, const Region& region, std::uint64_t offset, std::uint64_t size,
             const std::string& value) override;
  void computed(const std::string& name, const std::string& value) override;
  void failed(const std::string& name, const Region& region, std::uint64_t offset,
              const std::string& why) override;
  void covered(const Region& region, std::uint64_t offset, std::uint64_t size, Cover cover) override;

  const std::vector<Field>& fields() const { return fields_; }
  std::uint64_t left_out() const { return left_out_; }  ///< fields beyond the most that are kept

  /// Every byte of the file once, in order. A gap that holds only zeros, or only 0xff, is padding, and so is
  /// one of fewer bytes than an alignment of 4, 8 or 16 that ends at it.
  std::vector<CoverRange> ranges(const Source& file) const { return ranges_of("", file); }
  /// The same of a file that was read beside it.
  std::vector<CoverRange> ranges_of(const std::string& name, const Source& file) const;
  /// The files beside the container that were read, by name.
  const std::map<std::string, SourcePtr>& files() const { return files_; }

 private:
  std::string full_name(const std::string& name) const;
  bool named(const std::string& full) const;
  void add(Field field);
  bool wanted(const std::string& name, const Region& region, std::uint64_t offset, std::uint64_t size) const;

  TraceWish wish_;
  std::vector<std::string> path_;
  std::vector<Field> fields_;
  std::set<std::tuple<std::string, std::uint64_t, std::string>> seen_;  // by region, offset and name
  std::uint64_t left_out_ = 0;
  bool failed_ = false;                                    // the innermost field that cannot be read was told
  std::map<std::string, std::vector<CoverRange>> marked_;  // by file
  std::map<std::string, SourcePtr> files_;
};

}  // namespace operculum::layout
