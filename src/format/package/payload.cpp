#include "format/package/payload.h"

#include "base/error.h"
#include "base/text.h"
#include "container/entry.h"
#include "container/open.h"

namespace operculum {
namespace {

using Kind = InstallAction::Kind;

struct StartPlace {
  std::string_view part, ending;  // of the path
  Kind kind;
  std::string_view when;
};
constexpr StartPlace kStartPlaces[] = {
    {"lib/systemd/system/", ".service", Kind::service, "by the service manager"},
    {"lib/systemd/system/", ".socket", Kind::service, "by the service manager"},
    {"lib/systemd/system/", ".timer", Kind::scheduled_task, "by the service manager's timer"},
    {"etc/systemd/system/", ".service", Kind::service, "by the service manager"},
    {"lib/systemd/user/", ".service", Kind::autostart, "by a user's service manager"},
    {"etc/init.d/", "", Kind::service, "at boot"},
    {"etc/rc.d/init.d/", "", Kind::service, "at boot"},
    {"etc/cron.", "", Kind::scheduled_task, "at set times"},
    {"var/spool/cron/", "", Kind::scheduled_task, "at set times"},
    {"etc/xdg/autostart/", ".desktop", Kind::autostart, "at log-in"},
    {"etc/profile.d/", "", Kind::autostart, "at log-in"},
    {"etc/update-motd.d/", "", Kind::autostart, "at log-in"},
    {"etc/X11/Xsession.d/", "", Kind::autostart, "when a session begins"},
    {"etc/bash_completion.d/", "", Kind::autostart, "by interactive shells"},
    {"etc/NetworkManager/dispatcher.d/", "", Kind::autostart, "when the network changes"},
    {"etc/network/if-up.d/", "", Kind::autostart, "when the network comes up"},
    {"etc/kernel/postinst.d/", "", Kind::autostart, "when a kernel is installed"},
    {"etc/initramfs-tools/hooks/", "", Kind::autostart, "when the initial file system is made"},
    {"etc/logrotate.d/", "", Kind::scheduled_task, "by the rotation of logs"},
    {"etc/apt/apt.conf.d/", "", Kind::autostart, "by the package manager"},
    {"udev/rules.d/", ".rules", Kind::autostart, "when a device appears"},
    {"Library/LaunchDaemons/", ".plist", Kind::service, "at boot"},
    {"Library/LaunchAgents/", ".plist", Kind::autostart, "at log-in"},
    {"Startup/", "", Kind::autostart, "at log-in"},
};

/// What some bytes are. Within a stream that is damaged nothing is recognised: whoever reads on will tell.
Opened recognised(const ContentPtr& content, OpenContext& context, bool within) {
  try {
    return recognise_content(content, "", context);
  } catch (const Malformed&) {
    if (!within) throw;
    return {nullptr, nullptr, content, {}};
  }
}

}  // namespace

Unwrapped unwrapped(ContentPtr packed, OpenContext& context) {
  Unwrapped result{std::move(packed), "", false};
  for (std::uint64_t depth = 0; depth < context.limits.max_depth; ++depth) {
    Opened outer = recognised(result.content, context, !result.codec.empty());
    result.content = outer.content;
    if (outer.format == nullptr || !outer.format->single_stream) break;
    if (result.codec.empty()) result.codec = outer.format->id;
    result.checked |= outer.format->checks_data;
    ContainerPtr stream = outer.format->open({result.content, ""}, context);
    result.content = stream->content(0);
  }
  return result;
}

std::optional<InstallAction> started_by_path(std::string_view path) {
  for (const StartPlace& place : kStartPlaces) {
    if (path.find(place.part) == std::string_view::npos || !path.ends_with(place.ending) ||
        path.ends_with('/'))
      continue;
    return InstallAction{place.kind, std::string(base_name(path)), std::string(place.when), std::string(path),
                         ""};
  }
  return std::nullopt;
}

}  // namespace operculum
