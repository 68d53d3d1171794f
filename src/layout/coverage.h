#pragma once

#include <set>
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

/// Collects what a run tells.
class Tracer final : public Observer {
 public:
  /// A field as it was read.
  struct Field {
    std::string name;
    std::string region;  ///< empty: the file itself
    std::uint64_t offset, size;
    std::string raw;  ///< its first bytes, in hexadecimal
    std::string value;
  };

  explicit Tracer(std::size_t most_fields) : most_(most_fields) {}
  void enter(const std::string& name) override;
  void leave() override;
  void field(const std::string& name, const Region& region, std::uint64_t offset, std::uint64_t size,
             const std::string& value) override;
  void covered(const Region& region, std::uint64_t offset, std::uint64_t size, Cover cover) override;

  const std::vector<Field>& fields() const { return fields_; }
  std::uint64_t left_out() const { return left_out_; }  ///< fields beyond the most that are kept

  /// Every byte of the file once, in order. A gap that holds only zeros, or only 0xff, is padding, and so is
  /// one of fewer bytes than an alignment of 4, 8 or 16 that ends at it.
  std::vector<CoverRange> ranges(const Source& file) const;

 private:
  std::size_t most_;
  std::vector<std::string> path_;
  std::vector<Field> fields_;
  std::set<std::tuple<std::string, std::uint64_t, std::string>> seen_;  // by region, offset and name
  std::uint64_t left_out_ = 0;
  std::vector<CoverRange> marked_;
};

}  // namespace operculum::layout
