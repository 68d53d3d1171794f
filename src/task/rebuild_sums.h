#pragma once

#include "task/rebuild_layers.h"

namespace operculum {

/// Where the data archive of a Debian package changes: the file `md5sums` of its control archive (deb(5),
/// dpkg-deb's own lines: digest, two blanks, path) is to say the same as the data then. Throws Unsupported
/// where the package has no such file.
class PackageSums {
 public:
  /// `changes` are those of the innermost layer. All must outlive this.
  PackageSums(const std::vector<RebuildLayer>& layers, const Changes& changes, const Writing& writing,
              OpenContext& context)
      : layers_(layers), changes_(changes), writing_(writing), context_(context) {}

  /// For plan_layers(): the package's layer gets another control archive, too.
  void operator()(std::size_t layer, Changes& changes) const;
  /// Whether any of the layers is such a package.
  static bool concern(const std::vector<RebuildLayer>& layers);

 private:
  std::vector<RebuildLayer> control_layers(const RebuildLayer& package, std::size_t member) const;
  std::string brought_up_to_date(std::string_view lines) const;

  const std::vector<RebuildLayer>& layers_;
  const Changes& changes_;
  const Writing& writing_;
  OpenContext& context_;
};

}  // namespace operculum
