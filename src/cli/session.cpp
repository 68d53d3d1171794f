#include "cli/session.h"

#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <cstdio>
#include <cstdlib>
#include <filesystem>
#include <set>
#include <utility>

#include "base/text.h"
#include "base/units.h"
#include "cli/keys.h"
#include "format/archive/formats.h"
#include "format/firmware/formats.h"
#include "format/firmware/partition_line.h"
#include "format/flash/nand_dump.h"
#include "format/package/formats.h"
#include "format/volume/formats.h"
#include "io/file_source.h"
#include "layout/described_format.h"

namespace operculum::cli {
namespace {

constexpr const char* kPasswordVariable = "OPERCULUM_PASSWORD";

constexpr Choice<ProgressShown> kProgressShown[] = {
    {"lasting", ProgressShown::lasting}, {"always", ProgressShown::always}, {"never", ProgressShown::never}};

std::string config_folder() {
  const char* base = std::getenv("XDG_CONFIG_HOME");
  if (base != nullptr && *base != '\0') return std::string(base) + "/operculum";
  const char* home = std::getenv("HOME");
  return home == nullptr ? "" : std::string(home) + "/.config/operculum";
}

/// Where descriptions come with the program: beside it in the build tree, and in the installed share.
std::vector<std::string> installed_layouts() {
  std::error_code error;
  std::filesystem::path program = std::filesystem::read_symlink("/proc/self/exe", error);
  if (error) return {OPERCULUM_LAYOUTS};
  return {(program.parent_path() / "layouts").string(),
          (program.parent_path() / "../share/operculum/layouts").string(), OPERCULUM_LAYOUTS};
}

/// Asks once for each description and key whether it may have it; no where nobody can be asked.
bool ask_for_key(Session& session, const std::string& description, const std::string& key) {
  std::lock_guard lock(session.given_keys_mutex);
  auto [answer, is_new] = session.given_keys.try_emplace({description, key}, false);
  if (!is_new || isatty(0) != 1 || isatty(2) != 1) return answer->second;
  session.asking = true;
  answer->second = confirm_key(description, key);
  session.asking = false;
  return answer->second;
}

/// Compiles what --layout names. Throws Malformed with the first problem.
void use_layouts(Session& session) {
  for (const std::string& named : session.layouts) {
    const std::string path = session.layout_path(named);
    layout::Found found = session.read_layout(path);
    if (!found.compiled.plan) {
      layout::Description text = Session::description_of(path);
      for (const layout::Problem& problem : found.compiled.problems) {
        if (problem.level != layout::Problem::Level::error) continue;
        auto place = text.place_of(problem.where.at);
        throw Malformed(fmt::format("{}: line {}, column {}: {}; `operculum layout check` shows all",
                                    escape(path), place.line, place.column, problem.text));
      }
    }
    session.plans.push_back(found.compiled.plan);
    session.context.preferred.push_back(
        layout::described_format(found.compiled.plan, layout::Chosen::by_user));
  }
  for (const std::string& path : session.known_names) {
    std::vector<std::string> names = layout::read_names(path);
    session.context.known_names.insert(session.context.known_names.end(), names.begin(), names.end());
  }
  session.context.described = [&session] {
    session.tell_broken_layouts();
    return session.library().formats();
  };
}

/// The names of all views that some format knows.
std::vector<std::string> known_views() {
  std::set<std::string> names;
  for (const Format& format : formats()) names.insert(format.views.begin(), format.views.end());
  return {names.begin(), names.end()};
}

}  // namespace

void Session::say(Tone tone, const std::string& sentence) const {
  if (quiet && tone == Tone::note) return;
  bool colour = colour_wanted(2);
  Shown word = tone == Tone::note      ? Shown()
               : tone == Tone::warning ? styled("warning: ", "35", colour)
                                       : styled("error: ", "31", colour);
  Shown line = shown("operculum: {}{}\n", word, sentence);
  std::fwrite(line.text().data(), 1, line.text().size(), stderr);
}

void Session::write_new_file(const std::string& path, std::string_view text, std::string_view what) const {
  Output file;
  file.open(path);
  file.write_bytes(text);
  file.finish();
  say(Tone::note, fmt::format("the {} is in {}", what, escape(path)));
}

layout::Library& Session::library() {
  if (!library_) {
    library_.emplace();
    for (const std::string& folder : layout_folders()) library_->add_folder(folder);
  }
  return *library_;
}

void Session::tell_broken_layouts() {
  if (std::exchange(broken_layouts_told_, true)) return;
  for (const layout::Found& found : library().all()) {
    if (found.compiled.plan != nullptr) continue;
    std::string name = escape(layout::layout_name(found.path));
    say(Tone::warning,
        fmt::format("the description {} has errors and is not used; `operculum layout check {}` shows them",
                    name, shell_word(name)));
  }
}

std::string Session::layout_path(const std::string& file_or_name) {
  std::error_code none;
  bool file = file_or_name.find('/') != std::string::npos || std::filesystem::exists(file_or_name, none);
  const layout::Found* found = file ? nullptr : library().find(layout::layout_name(file_or_name));
  return found == nullptr ? file_or_name : found->path;
}

std::vector<std::string> Session::layout_folders() const {
  std::vector<std::string> folders = {config_folder + "/layouts"};
  for (std::string& folder : installed_layouts()) folders.push_back(std::move(folder));
  return folders;
}

layout::Found Session::read_layout(const std::string& path) const {
  std::vector<std::string> own = layout_folders();
  std::error_code error;
  std::filesystem::path folder = std::filesystem::canonical(path, error).parent_path();
  bool trusted = std::any_of(own.begin(), own.end(), [&](const std::string& one) {
    std::error_code none;
    return !folder.empty() && std::filesystem::canonical(one, none) == folder;
  });
  return layout::Library::read(path, trusted ? layout::Trust::own : layout::Trust::stranger);
}

layout::Description Session::description_of(const std::string& path) {
  SourcePtr source = open_file(path);
  Bytes bytes = read_up_to(*source, 0, source->size());
  return {path, std::string(as_text(bytes))};
}

void add_common_options(CommandLine& program, Session& session) {
  session.config_folder = config_folder();
  Options options = program.everywhere();
  options.group("everywhere");
  program.config_file(session.config_folder + "/config.toml");
  options.flag("--json", session.json, "Print JSON Lines (docs/output.md) instead of text");
  options.text("--output", session.output, "FILE",
               "Write the data to this new file instead of standard output");
  options.flag("-q,--quiet", session.quiet, "Say only warnings and errors");
  options.flag("-v,--verbose", session.verbose, "Say more");
  options.choice<ProgressShown>("--progress", session.progress_shown, kProgressShown,
                                "How far long work is: on a terminal once it has lasted a moment (lasting, "
                                "the default), always or never");
  options.text("--password-file", session.password_file, "FILE",
               "Take the password from the first line of this file");
  options.texts("--key-file", session.key_files, "FILE", "Try all bytes of this file as a key (repeatable)");
  options.texts("--layout", session.layouts, "FILE",
                "Use this description of a format, before all others (repeatable)");
  options.flag("--give-keys", session.give_keys,
               "Let descriptions named by --layout have keys and passwords without asking");
  options.texts("--known-names", session.known_names, "FILE",
                "Paths, one a line, that packs may hold under a hash alone (repeatable)");
  options.text("--names-in", session.context.names_in, "ENCODING",
               "Encoding of names that do not say theirs, such as CP932");
  options.choice_by_word(
      "--view", known_views(),
      "Which of several trees to show, or more than usual; `operculum formats` tells which format has which",
      [&session](std::string_view word) { session.context.view = word; });
  options.flag("--search", session.search,
               "Look for containers anywhere within files that are none themselves from the first byte on");
  options.text(
      "--parts", session.parts, "LINE",
      "Cut the file into these parts of a flash chip, as in \"256k(boot),4m(kernel),-(rootfs)\"; or a device "
      "tree that names them");
  options.text("--pages", session.pages, "PAGE+SPARE",
               "Leave out the spare bytes of each page of a NAND dump, as in 2048+64");
  options.text("--luks-header", session.luks_header, "FILE",
               "Take the file as a LUKS volume whose header is in this other file");
  options.text(
      "--hash-tree", session.hash_tree, "FILE",
      "Compare the file's blocks with the dm-verity hash tree in this one, or in itself, as they are read");
  options.text("--root-hash", session.root_hash, "HEX", "The root that the hash tree has to have");
  options.flag("--no-sandbox", session.no_sandbox,
               "Read strangers' bytes with all the rights that you have (docs/security.md)");
  options.number("--http-stall", session.context.http.stall_seconds,
                 "Seconds after which a server that sends nothing is asked again (30)");
  Limits& limits = session.context.limits;
  options.group("guards");
  options.number(
      "--max-entries", limits.max_entries,
      "Most entries of all containers together (20,000,000; and 100,000 more than the file has bytes)");
  options.size("--max-total", limits.max_total, "Most bytes unpacked in one run");
  options.number("--max-ratio", limits.max_ratio, "Most unpacked bytes for each stored one, beyond 256 MiB");
  options.number("--max-depth", limits.max_depth, "Most containers inside each other");
  options.size("--max-memory", limits.max_memory,
               "Most memory for listings (160 MiB, and 16 bytes for each stored one)");
  options.size("--max-spool", limits.max_spool, "Most temporary bytes for inner containers");
}

void use_hash_tree(Session& session) {
  if (session.hash_tree.empty() && session.root_hash.empty()) return;
  if (session.hash_tree.empty())
    throw UsageError{"--root-hash: name the file with the hash tree with --hash-tree"};
  std::optional<Bytes> root;
  if (!session.root_hash.empty()) {
    root = from_hex(session.root_hash);
    if (!root)
      throw UsageError{
          fmt::format("--root-hash: expected hexadecimal digits, found \"{}\"", escape(session.root_hash))};
  }
  session.context.preferred.push_back(told_verity_format(open_file(session.hash_tree), root));
}

/// What a person tells of the file: that its chunks are meant, or how a dump of a chip is divided.
void use_told_forms(Session& session) {
  OpenContext& context = session.context;
  if (context.view == kChunksView) context.preferred.push_back(asked_riff_format());
  if (!session.pages.empty()) {
    std::vector<std::string_view> numbers = split(session.pages, '+');
    auto page = parse_number(numbers[0]),
         spare = numbers.size() == 2 ? parse_number(numbers[1]) : std::nullopt;
    if (!page || !spare || *page < 256 || *page > 65536 || *spare == 0 || *spare > *page)
      throw UsageError{
          fmt::format("--pages: expected a page and its spare bytes such as 2048+64, found \"{}\"",
                      escape(session.pages))};
    context.preferred.push_back(
        told_nand_dump_format({static_cast<std::uint32_t>(*page), static_cast<std::uint32_t>(*spare), 0}));
  }
  if (!session.luks_header.empty())
    context.preferred.push_back(told_luks_format(open_file(session.luks_header)));
  use_hash_tree(session);
  if (!session.parts.empty()) {
    std::error_code error;
    bool tree = std::filesystem::is_regular_file(session.parts, error);
    try {
      context.preferred.push_back(cut_file_format(tree ? read_tree_partitions(open_file(session.parts))
                                                       : read_partition_line(session.parts)));
    } catch (const Malformed& wrong) {
      throw UsageError{wrong.what()};
    }
  }
}

void prepare(Session& session) {
  OpenContext& context = session.context;
  if (!context.names_in.empty()) require_encoding(context.names_in);
  context.spool.set_disk(context.limits.max_spool);
  if (!session.password_file.empty()) {
    context.keys.add({read_password_file(session.password_file), "the password file"});
  }
  for (const std::string& path : session.key_files) context.keys.add({read_key(path), "the key file", false});
  if (const char* password = std::getenv(kPasswordVariable)) context.keys.add({password, kPasswordVariable});
  if (!session.config_folder.empty()) read_key_file(session.config_folder + "/keys.toml", context.keys);
  if (isatty(0) == 1 && isatty(2) == 1) {
    context.keys.set_prompt([&session](const std::string& container, bool again) {
      session.asking = true;
      auto answer = ask_password(container, again);
      session.asking = false;
      return answer;
    });
  }
  context.may_have_key = [&session](const std::string& description, const std::string& key) {
    return session.give_keys || ask_for_key(session, description, key);
  };
  context.http.stopped = [&session] { return session.progress.stop.load(); };
  use_layouts(session);
  use_told_forms(session);
  if (session.search) context.searched.push_back(searched_file_format());
  if (!session.output.empty()) session.data.open(session.output);
}

std::string about(const std::string& target, const std::string& text) {
  std::string name = escape(target);
  return text.starts_with(name) ? text : fmt::format("{}: {}", name, text);
}

void report_error(Session& session, const std::string& target, const Error& error) {
  session.raise(exit_code_of(error.kind()));
  session.say(Session::Tone::error, about(target, error.what()));
}

}  // namespace operculum::cli
