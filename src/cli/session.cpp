#include "cli/session.h"

#include <fmt/format.h>
#include <unistd.h>

#include <cstdio>
#include <cstdlib>
#include <map>

#include "base/text.h"
#include "base/units.h"
#include "cli/keys.h"

namespace operculum::cli {
namespace {

constexpr const char* kPasswordVariable = "OPERCULUM_PASSWORD";

std::string config_folder() {
  const char* base = std::getenv("XDG_CONFIG_HOME");
  if (base != nullptr && *base != '\0') return std::string(base) + "/operculum";
  const char* home = std::getenv("HOME");
  return home == nullptr ? "" : std::string(home) + "/.config/operculum";
}

/// Sizes with units on the command line: "64MiB".
CLI::Validator size_validator() {
  return CLI::Validator(
      [](std::string& text) -> std::string {
        auto size = parse_size(text);
        if (!size) return fmt::format("expected a size such as 4096, 64K or 2GiB, found \"{}\"", text);
        text = std::to_string(*size);
        return "";
      },
      "SIZE");
}

}  // namespace

void Session::say(Tone tone, const std::string& sentence) const {
  if (quiet && tone == Tone::note) return;
  bool colour = colour_wanted(2);
  std::string word = tone == Tone::note      ? ""
                     : tone == Tone::warning ? styled("warning: ", "35", colour)
                                             : styled("error: ", "31", colour);
  std::string line = fmt::format("operculum: {}{}\n", word, sentence);
  std::fwrite(line.data(), 1, line.size(), stderr);
}

void add_common_options(CLI::App& app, Session& session) {
  session.config_folder = config_folder();
  app.set_config("--config", session.config_folder + "/config.toml",
                 "Read option defaults from this TOML file")
      ->group("Everywhere");
  app.add_flag("--json", session.json, "Print JSON Lines (docs/output.md) instead of text")
      ->group("Everywhere");
  app.add_option("--output", session.output, "Write the data to this new file instead of standard output")
      ->type_name("FILE")
      ->group("Everywhere");
  app.add_flag("-q,--quiet", session.quiet, "Say only warnings and errors")->group("Everywhere");
  app.add_flag("-v,--verbose", session.verbose, "Say more")->group("Everywhere");
  static const std::map<std::string, ProgressShown> kShown = {{"lasting", ProgressShown::lasting},
                                                              {"always", ProgressShown::always},
                                                              {"never", ProgressShown::never}};
  app.add_option("--progress", session.progress_shown,
                 "How far long work is: on a terminal once it has lasted a moment (lasting), always or never")
      ->transform(CLI::CheckedTransformer(kShown).description(""))
      ->type_name("WHEN")
      ->group("Everywhere");
  app.add_option("--password-file", session.password_file,
                 "Take the password from the first line of this file")
      ->type_name("FILE")
      ->group("Everywhere");
  app.add_option("--names-in", session.context.names_in,
                 "Encoding of names that do not say theirs, such as CP932")
      ->type_name("ENCODING")
      ->group("Everywhere");
  Limits& limits = session.context.limits;
  auto limit = [&](const char* name, std::uint64_t& value, const char* text) {
    return app.add_option(name, value, text)->capture_default_str()->group("Guards");
  };
  limit("--max-entries", limits.max_entries, "Most entries of one container");
  limit("--max-total", limits.max_total, "Most bytes unpacked in one run")->transform(size_validator());
  limit("--max-ratio", limits.max_ratio, "Most unpacked bytes for each stored one, beyond 256 MiB");
  limit("--max-depth", limits.max_depth, "Most containers inside each other");
  limit("--max-spool", limits.max_spool, "Most temporary bytes for inner containers")
      ->transform(size_validator());
}

void prepare(Session& session) {
  OpenContext& context = session.context;
  if (!context.names_in.empty()) require_encoding(context.names_in);
  context.spool.set_disk(context.limits.max_spool);
  if (!session.password_file.empty()) {
    context.keys.add({read_password_file(session.password_file), "the password file"});
  }
  if (const char* password = std::getenv(kPasswordVariable)) context.keys.add({password, kPasswordVariable});
  if (!session.config_folder.empty()) read_key_file(session.config_folder + "/keys.toml", context.keys);
  if (isatty(0) == 1 && isatty(2) == 1) {
    context.keys.set_prompt([&session](const std::string& container) {
      session.asking = true;
      auto answer = ask_password(container);
      session.asking = false;
      return answer;
    });
  }
  if (!session.output.empty()) session.data.open(session.output);
}

void report_error(Session& session, const std::string& target, const Error& error) {
  session.raise(exit_code_of(error.kind()));
  std::string text = error.what();
  std::string name = escape(target);
  session.say(Session::Tone::error, text.starts_with(name) ? text : fmt::format("{}: {}", name, text));
}

}  // namespace operculum::cli
