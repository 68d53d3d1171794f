#include "cli/keys.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <toml++/toml.h>
#include <unistd.h>

#include <cerrno>
#include <filesystem>
#include <fstream>

#include "base/error.h"
#include "base/text.h"
#include "cli/signals.h"
#include "io/descriptor.h"

namespace operculum::cli {

namespace {

/// The bytes of "00 11 2a"; nothing when it is not pairs of hexadecimal digits.
std::optional<std::string> from_spaced_hex(std::string_view text) {
  std::string digits;
  for (char c : text) {
    if (c != ' ') digits += c;
  }
  auto bytes = from_hex(digits);
  return bytes && !bytes->empty() ? std::optional(std::string(as_text(*bytes))) : std::nullopt;
}

/// `folder` is that of keys.toml.
std::optional<std::string> secret_of(const toml::table& key, const std::filesystem::path& folder) {
  if (auto password = key["password"].value<std::string>()) return password;
  if (auto file = key["file"].value<std::string>()) return read_key(folder / *file);
  auto hex = key["hex"].value<std::string>();
  return hex ? from_spaced_hex(*hex) : std::nullopt;
}

}  // namespace

std::string read_password_file(const std::string& path) {
  std::ifstream file(path, std::ios::binary);
  std::string line;
  if (!file) throw IoError(fmt::format("cannot read the password file {}", escape(path)), errno);
  std::getline(file, line);
  if (line.ends_with('\r')) line.pop_back();
  return line;
}

std::string read_key(const std::string& path) {
  constexpr std::size_t kLargest = 8 << 20;  // as the makers of LUKS have it
  std::ifstream file(path, std::ios::binary);
  std::string key(kLargest + 1, '\0');
  if (!file.read(key.data(), static_cast<std::streamsize>(key.size())) && !file.eof())
    throw IoError(fmt::format("cannot read the key file {}", escape(path)), errno);
  key.resize(static_cast<std::size_t>(file.gcount()));
  if (key.empty() || key.size() > kLargest)
    throw Malformed(fmt::format("{}: expected a key of 1 byte to 8 MiB, found {}", escape(path),
                                key.empty() ? "an empty file" : "more"));
  return key;
}

void read_key_file(const std::string& path, KeyRing& keys) {
  if (access(path.c_str(), F_OK) != 0) return;
  try {
    toml::table all = toml::parse_file(path);
    const toml::array* list = all["key"].as_array();
    if (list == nullptr)
      throw Malformed(fmt::format("{}: expected tables [[key]] with \"for\" and \"password\"", escape(path)));
    for (const toml::node& node : *list) {
      const toml::table* one = node.as_table();
      auto secret =
          one == nullptr ? std::nullopt : secret_of(*one, std::filesystem::path(path).parent_path());
      if (!secret)
        throw Malformed(fmt::format(
            "{}: line {}: expected a \"password\", a key in \"hex\", or the \"file\" of one, in this [[key]]",
            escape(path), node.source().begin.line));
      std::string pattern = (*one)["for"].value_or(std::string());
      if (auto name = (*one)["name"].value<std::string>()) {
        keys.add_named(*name, {*secret, "keys.toml"}, pattern);
      } else {
        keys.add({*secret, "keys.toml"}, pattern);
      }
    }
  } catch (const toml::parse_error& error) {
    throw Malformed(
        fmt::format("{}: line {}: {}", escape(path), error.source().begin.line, error.description()));
  }
}

std::optional<std::string> ask_password(const std::string& container, bool again) {
  Descriptor terminal(open("/dev/tty", O_RDWR | O_CLOEXEC));
  if (!terminal) return std::nullopt;
  EchoOff silent(terminal.number());
  if (!silent.worked()) return std::nullopt;
  std::string question =
      fmt::format("\r\x1b[K{}assword for {}: ", again ? "That was wrong. P" : "P", escape(container));
  std::string answer;
  if (write(terminal.number(), question.data(), question.size()) < 0) question.clear();
  for (char c = 0; read(terminal.number(), &c, 1) == 1 && c != '\n';) answer += c;
  if (write(terminal.number(), "\n", 1) < 0 || answer.empty()) return std::nullopt;
  return answer;
}

bool confirm_key(const std::string& description, const std::string& key) {
  Descriptor terminal(open("/dev/tty", O_RDWR | O_CLOEXEC));
  std::string question = fmt::format("\r\x1b[KMay the description {} have the key \"{}\"? [y/N] ",
                                     escape(description), escape(key));
  if (!terminal || write(terminal.number(), question.data(), question.size()) < 0) return false;
  std::string answer;
  for (char c = 0; read(terminal.number(), &c, 1) == 1 && c != '\n';) answer += c;
  return answer == "y" || answer == "Y" || answer == "yes";
}

}  // namespace operculum::cli
