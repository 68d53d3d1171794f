#include "task/script_effects.h"

#include <gtest/gtest.h>

namespace operculum {
namespace {

TEST(ScriptEffects, TellWhatAScriptSaysThatItMakes) {
  EXPECT_EQ(script_effects("#!/bin/sh\n"
                           "set -e\n"
                           "if ! getent passwd gauge; then\n"
                           "  adduser --system gauge\n"
                           "fi\n"
                           "mkdir -p /var/lib/gauge || true\n"
                           "/bin/mkdir -p /var/lib/gauge\n"
                           "install -d /srv/tides; ls\n"
                           "install tide /usr/bin\n"
                           "ln -s /opt/gauge/run /usr/bin/gauge\n"
                           "if systemctl enable gauge.service >/dev/null 2>&1\n"
                           "echo mkdir nothing\n"),
            (std::vector<std::string>{
                "adds the user gauge", "makes the folder /var/lib/gauge", "makes the folder /srv/tides",
                "makes the link /opt/gauge/run /usr/bin/gauge", "enables the service gauge.service"}));
}

TEST(ScriptEffects, AScriptWithoutEndIsNotToldWithoutEnd) {
  std::string text;
  for (int i = 0; i < 1000; ++i) text += "mkdir /a" + std::to_string(i) + "\n";
  EXPECT_EQ(script_effects(text).size(), 100u);
}

}  // namespace
}  // namespace operculum
