// What is no local file: standard input, and files on servers.
#include <gtest/gtest.h>

#include <csignal>
#include <filesystem>
#include <thread>

#include "codec/codec.h"
#include "support/http_stand_in.h"
#include "support/program.h"
#include "support/sample_tree.h"
#include "support/tar_builder.h"
#include "support/temp_folder.h"
#include "support/zip_builder.h"

namespace operculum::test {
namespace {

bool has(const std::string& text, std::string_view part) {
  return text.find(part) != std::string::npos;
}

std::string as_string(const Bytes& bytes) {
  return std::string(as_text(bytes));
}

TEST(StandardInput, IsAContainerLikeAnyOther) {
  TempFolder folder;
  std::string zip = as_string(ZipBuilder().add("logs/tide.log", "low\n").build());
  EXPECT_EQ(operculum({"list", "--paths", "-"}, folder.path(), {}, zip).out, "logs/tide.log\n");
  EXPECT_EQ(operculum({"show", "-/logs/tide.log"}, folder.path(), {}, zip).out, "low\n");
  std::string tar = as_string(encode("gzip", TarBuilder().file("tide.log", "low\n").build()));
  EXPECT_EQ(operculum({"verify", "-"}, folder.path(), {}, tar).exit_code, 0);
  EXPECT_TRUE(has(operculum({"identify", "-"}, folder.path(), {}, tar).out, "gzip"));
  EXPECT_EQ(operculum({"find", "-", "--text", "low", "--quiet"}, folder.path(), {}, tar).out, "-/tide.log\n");
  EXPECT_EQ(operculum({"unpack", "-", "--into", "out"}, folder.path(), {}, zip).exit_code, 0);
  EXPECT_EQ(folder.read("out/logs/tide.log"), "low\n");
}

/// A pack of 8 MiB on a server, with a file of 100 KiB in its middle.
Bytes large_pack() {
  return ZipBuilder()
      .stored("front.bin", noise(4 << 20, 1))
      .stored("logs/tide.log", noise(100 << 10, 2))
      .stored("back.bin", noise(4 << 20, 3))
      .build();
}

TEST(Server, OneFileCostsItsOwnBlocksAndTheIndex) {
  HttpStandIn server(HttpStandIn::Manner::plain);
  server.put("/backups/pack.zip", large_pack());
  TempFolder folder;
  Ran ran =
      operculum({"unpack", server.url("/backups/pack.zip/logs/tide.log"), "--into", "out"}, folder.path());
  EXPECT_EQ(ran.exit_code, 0) << ran.err;
  EXPECT_EQ(folder.read("out/tide.log"), as_string(noise(100 << 10, 2))) << folder.listing();
  EXPECT_LT(server.sent(), 1u << 20);
  EXPECT_LE(server.requests(), 8u);
}

TEST(Server, GivesPartOfEveryCommand) {
  HttpStandIn server(HttpStandIn::Manner::plain);
  server.put("/pack.zip", large_pack());
  server.put("/get?id=3", encode("gzip", TarBuilder().file("a.txt", "low\n").build()));
  TempFolder folder;
  std::string url = server.url("/pack.zip");
  EXPECT_EQ(operculum({"list", "--paths", url}, folder.path()).out, "front.bin\nlogs/tide.log\nback.bin\n");
  EXPECT_EQ(operculum({"verify", url}, folder.path()).exit_code, 0);
  EXPECT_TRUE(has(operculum({url}, folder.path()).out, "ZIP archive"));
  EXPECT_EQ(operculum({"show", server.url("/get?id=3#/a.txt")}, folder.path()).out, "low\n");
  Ran gone = operculum({"list", server.url("/gone.zip")}, folder.path());
  EXPECT_EQ(gone.exit_code, 3);
  EXPECT_TRUE(has(gone.err, "No such file")) << gone.err;
}

TEST(Server, IsNeverAskedForWhatAContainerNames) {
  HttpStandIn server(HttpStandIn::Manner::plain);
  server.put("/secret.zip", ZipBuilder().add("x", "1").build());
  TempFolder folder;
  folder.write("a.tar", TarBuilder()
                            .file(server.url("/secret.zip"), "text")
                            .symbolic("link", server.url("/secret.zip"))
                            .build());
  operculum({"list", "--deep", "a.tar"}, folder.path());
  operculum({"verify", "--deep", "a.tar"}, folder.path());
  operculum({"unpack", "--deep", "a.tar"}, folder.path());
  operculum({"find", "a.tar", "--match", "x"}, folder.path());
  EXPECT_EQ(server.requests(), 0u);
}

TEST(Server, WantsToKnowWhoAsks) {
  HttpStandIn server(HttpStandIn::Manner::locked);
  server.put("/pack.zip", ZipBuilder().add("x", "1").build());
  TempFolder folder;
  Ran no = operculum({"list", server.url("/pack.zip")}, folder.path());
  EXPECT_EQ(no.exit_code, 4);
  EXPECT_TRUE(has(no.err, "~/.netrc or keys.toml")) << no.err;
  std::vector<std::string> list = {"list", "--paths", server.url("/pack.zip")};
  unsigned before = server.requests();  // a password for anything is shown to no server
  EXPECT_EQ(operculum(list, folder.path(), {{"OPERCULUM_PASSWORD", "gauge:high water"}}).exit_code, 4);
  EXPECT_EQ(server.requests(), before + 1);
  folder.write(".config/operculum/keys.toml",
               "[[key]]\nfor = \"127.0.0.1:*\"\npassword = \"gauge:high water\"\n");
  EXPECT_EQ(operculum(list, folder.path()).out, "x\n");
  std::filesystem::remove(folder.path(".config/operculum/keys.toml"));
  folder.write(".netrc", "machine 127.0.0.1 login gauge password \"high water\"\n");
  Ran by_netrc = operculum(list, folder.path(), {{"HOME", folder.path()}});
  EXPECT_EQ(by_netrc.out, "x\n") << by_netrc.err;
}

// The same against a server that others wrote.
TEST(Server, OfAnotherMakerGivesTheSame) {
  if (!on_path("nginx")) GTEST_SKIP() << "nginx is not installed";
  TempFolder folder;
  folder.write("www/backups/pack.zip", large_pack());
  folder.write("nginx.conf",
               "user root; daemon off; pid " + folder.path("nginx.pid") + "; error_log " +
                   folder.path("error.log") + ";\nevents {}\nhttp { access_log off; client_body_temp_path " +
                   folder.path("t1") + "; proxy_temp_path " + folder.path("t2") + "; fastcgi_temp_path " +
                   folder.path("t3") + "; uwsgi_temp_path " + folder.path("t4") + "; scgi_temp_path " +
                   folder.path("t5") + ";\nserver { listen unix:" + folder.path("unused") +
                   "; listen 127.0.0.1:18437; root " + folder.path("www") + "; } }\n");
  pid_t child = fork();
  if (child == 0) {
    execlp("nginx", "nginx", "-c", folder.path("nginx.conf").c_str(), "-e", folder.path("error.log").c_str(),
           nullptr);
    _exit(127);
  }
  Ran ran;
  for (int i = 0; i < 100; ++i) {
    ran = operculum({"show", "http://127.0.0.1:18437/backups/pack.zip/logs/tide.log"}, folder.path());
    if (ran.exit_code == 0 || !has(ran.err, "onnect")) break;
    std::this_thread::sleep_for(std::chrono::milliseconds(50));
  }
  kill(child, SIGTERM);
  EXPECT_EQ(ran.exit_code, 0) << ran.err << folder.read("error.log");
}

}  // namespace
}  // namespace operculum::test
