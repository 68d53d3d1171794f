#include "container/installation.h"

namespace operculum {

std::string_view name_of(InstallAction::Kind kind) {
  switch (kind) {
    case InstallAction::Kind::script:
      return "script";
    case InstallAction::Kind::program:
      return "program";
    case InstallAction::Kind::service:
      return "service";
    case InstallAction::Kind::scheduled_task:
      return "scheduled task";
    case InstallAction::Kind::autostart:
      return "autostart";
  }
  return "";
}

}  // namespace operculum
