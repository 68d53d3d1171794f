// What is no local file: standard input, and files on servers.
#include <gtest/gtest.h>
#include <sys/wait.h>
#include <unistd.h>

#include <csignal>
#include <filesystem>
#include <thread>

#include "codec/codec.h"
#include "support/has.h"
#include "support/http_stand_in.h"
#include "support/program.h"
#include "support/sample_tree.h"
#include "support/tar_builder.h"
#include "support/temp_folder.h"
#include "support/zip_builder.h"

namespace operculum::test {
namespace {

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

TEST(StandardInput, IsNotKeptWhereItsFormatIsReadForwards) {
  // More than is kept in memory, and nearly nothing may be kept on disk.
  TempFolder folder;
  Bytes sound = noise(66 << 20, 5);
  std::string tar =
      as_string(TarBuilder().file("tide.log", "low\n").add({.name = "crab.snd", .data = sound}).build());
  std::vector<std::string> little = {"--max-spool", "4K"};
  auto run = [&](std::vector<std::string> words, const std::string& input) {
    words.insert(words.end(), little.begin(), little.end());
    return operculum(words, folder.path(), {}, input);
  };
  Ran list = run({"list", "--paths", "-"}, tar);
  EXPECT_EQ(list.out, "tide.log\ncrab.snd\n") << list.err;
  Ran verify = run({"verify", "-"}, tar);
  EXPECT_EQ(verify.exit_code, 0) << verify.err;
  Ran unpack = run({"unpack", "-", "--into", "out"}, tar);
  EXPECT_EQ(unpack.exit_code, 0) << unpack.err;
  EXPECT_TRUE(folder.read("out/crab.snd") == as_string(sound));
  std::string packed = as_string(encode("gzip", ByteView(as_bytes(tar)), {.level = 1}));
  EXPECT_EQ(run({"list", "--paths", "-"}, packed).out, "tide.log\ncrab.snd\n");
  // What needs its end first must be kept, and a path into it may have to be looked for twice.
  std::string zip = as_string(ZipBuilder().stored("crab.snd", sound).build());
  EXPECT_TRUE(has(run({"list", "-"}, zip).err, "--max-spool")) << "it was kept somewhere";
  EXPECT_TRUE(has(run({"show", "-/tide.log"}, tar).err, "--max-spool"));
}

TEST(Server, WithoutRangesIsNotKeptWhereTheFormatIsReadForwards) {
  HttpStandIn server(HttpStandIn::Manner::no_ranges);
  Bytes sound = noise(66 << 20, 5);
  server.put("/pack.tar",
             TarBuilder().file("tide.log", "low\n").add({.name = "crab.snd", .data = sound}).build());
  server.put("/pack.zip", ZipBuilder().stored("crab.snd", sound).build());
  TempFolder folder;
  auto run = [&](std::vector<std::string> words) {
    words.insert(words.end(), {"--max-spool", "4K"});
    return operculum(words, folder.path());
  };
  Ran list = run({"list", "--paths", server.url("/pack.tar")});
  EXPECT_EQ(list.out, "tide.log\ncrab.snd\n") << list.err;
  EXPECT_EQ(server.requests(), 1u);
  Ran unpack = run({"unpack", server.url("/pack.tar"), "--into", "out"});
  EXPECT_EQ(unpack.exit_code, 0) << unpack.err;
  EXPECT_TRUE(folder.read("out/crab.snd") == as_string(sound));
  EXPECT_TRUE(has(run({"list", server.url("/pack.zip")}).err, "--max-spool")) << "its index is at its end";
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

/// nginx on this machine, with a certificate that nobody vouches for; ends with the object.
class Nginx {
 public:
  explicit Nginx(const TempFolder& folder) {
    Ran made = run("openssl",
                   {"req", "-x509", "-newkey", "rsa:2048", "-nodes", "-subj", "/CN=127.0.0.1", "-addext",
                    "subjectAltName=IP:127.0.0.1", "-keyout", "key.pem", "-out", "cert.pem"},
                   folder.path());
    EXPECT_EQ(made.exit_code, 0) << made.err;
    std::string own;
    for (const char* what : {"client_body", "proxy", "fastcgi", "uwsgi", "scgi"})
      own += std::string(what) + "_temp_path " + folder.path(what) + "; ";
    folder.write("nginx.conf",
                 "user root; daemon off; pid " + folder.path("nginx.pid") +
                     ";\nevents {}\nhttp { access_log off; " + own +
                     "\nserver { listen 127.0.0.1:18437; listen 127.0.0.1:18438 ssl http2; ssl_certificate " +
                     folder.path("cert.pem") + "; ssl_certificate_key " + folder.path("key.pem") + "; root " +
                     folder.path("www") + "; } }\n");
    child_ = fork();
    if (child_ == 0) {
      std::string conf = folder.path("nginx.conf"), errors = folder.path("error.log");
      execlp("nginx", "nginx", "-c", conf.c_str(), "-e", errors.c_str(), nullptr);
      _exit(127);
    }
  }
  ~Nginx() {
    kill(child_, SIGTERM);
    waitpid(child_, nullptr, 0);
  }
  Nginx(const Nginx&) = delete;
  Nginx& operator=(const Nginx&) = delete;

 private:
  pid_t child_ = -1;
};

// The same against a server that others wrote: HTTP/1.1, and HTTP/2 behind TLS.
TEST(Server, OfAnotherMakerGivesTheSame) {
  if (!on_path("nginx") || !on_path("openssl")) GTEST_SKIP() << "nginx or openssl is not installed";
  TempFolder folder;
  folder.write("www/backups/pack.zip", large_pack());
  Nginx nginx(folder);
  std::string wanted = as_string(noise(100 << 10, 2));
  auto show = [&](const std::string& server, const std::map<std::string, std::string>& environment = {}) {
    return operculum({"show", server + "/backups/pack.zip/logs/tide.log"}, folder.path(), environment);
  };
  Ran plain = show("http://127.0.0.1:18437");  // asked again until the server is up
  EXPECT_EQ(plain.exit_code, 0) << plain.err << folder.read("error.log");
  EXPECT_EQ(plain.out, wanted);
  Ran secure = show("https://127.0.0.1:18438", {{"SSL_CERT_FILE", folder.path("cert.pem")}});
  EXPECT_EQ(secure.exit_code, 0) << secure.err;
  EXPECT_EQ(secure.out, wanted);
  Ran stranger = show("https://127.0.0.1:18438");
  EXPECT_EQ(stranger.exit_code, 3);
  EXPECT_TRUE(has(stranger.err, "certificate")) << stranger.err;
}

}  // namespace
}  // namespace operculum::test
