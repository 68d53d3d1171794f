// What a database says beside its files: custom actions, services, registry values, shortcuts.
#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "base/text.h"
#include "format/package/msi_install.h"

namespace operculum::msi {
namespace {

constexpr std::uint64_t kMostScript = 256 * 1024;
constexpr std::string_view kRunKeys[] = {"\\currentversion\\run", "\\currentversion\\runonce",
                                         "\\currentversion\\runservices"};

using Kind = InstallAction::Kind;

/// A row's values by column name.
class Row {
 public:
  Row(const Table& table, std::size_t row) : table_(table), row_(row) {}
  std::string text(std::string_view column) const {
    return std::string(table_.text(row_, table_.find_column(column)));
  }
  std::int32_t number(std::string_view column, std::int32_t otherwise = 0) const {
    return table_.number(row_, table_.find_column(column)).value_or(otherwise);
  }

 private:
  const Table& table_;
  std::size_t row_;
};

/// What the basic type of a custom action means: the low six bits of its type.
struct ActionType {
  int bits;
  Kind kind;
  enum From { binary, file, folder, property, inline_text } from;
};
constexpr ActionType kActionTypes[] = {
    {1, Kind::program, ActionType::binary},      {2, Kind::program, ActionType::binary},
    {5, Kind::script, ActionType::binary},       {6, Kind::script, ActionType::binary},
    {17, Kind::program, ActionType::file},       {18, Kind::program, ActionType::file},
    {21, Kind::script, ActionType::file},        {22, Kind::script, ActionType::file},
    {34, Kind::program, ActionType::folder},     {37, Kind::script, ActionType::inline_text},
    {38, Kind::script, ActionType::inline_text}, {50, Kind::program, ActionType::property},
    {53, Kind::script, ActionType::property},    {54, Kind::script, ActionType::property},
};

constexpr std::string_view kStartTypes[] = {"at boot", "with the system", "automatically", "on demand",
                                            "never (disabled)"};
constexpr std::string_view kRoots[] = {"HKCU or HKLM", "HKCR", "HKCU", "HKLM", "HKU"};

class Reporter {
 public:
  Reporter(const Database& database, const InstallTree& tree) : database_(database), tree_(tree) {}

  Installation read(Facts summary) {
    result_.about = std::move(summary);
    each("Property", [&](const Row& row) { properties_[row.text("Property")] = row.text("Value"); });
    for (auto [name, label] : kAbout) {
      auto found = properties_.find(name);
      if (found != properties_.end()) result_.about.emplace_back(label, found->second);
    }
    each("Component", [&](const Row& row) {
      components_[row.text("Component")] = {row.text("KeyPath"), row.text("Directory_")};
    });
    for (const char* sequence : {"InstallUISequence", "InstallExecuteSequence"}) {
      each(sequence, [&](const Row& row) {
        Step step{row.number("Sequence"), row.text("Condition")};
        if (step.sequence > 0) steps_[row.text("Action")] = std::move(step);
      });
    }
    each("CustomAction", [&](const Row& row) { custom_action(row); });
    std::stable_sort(result_.actions.begin(), result_.actions.end(), [&](const auto& a, const auto& b) {
      return steps_[a.name].sequence < steps_[b.name].sequence;
    });
    each("ServiceInstall", [&](const Row& row) { service(row); });
    each("Registry", [&](const Row& row) { registry(row); });
    each("Shortcut", [&](const Row& row) { shortcut(row); });
    each("LaunchCondition", [&](const Row& row) { result_.needs.push_back(row.text("Condition")); });
    each("Environment", [&](const Row& row) {
      result_.notes.push_back(fmt::format("the environment variable \"{}\" would be set to \"{}\"",
                                          row.text("Name"), resolved(row.text("Value"))));
    });
    return std::move(result_);
  }

 private:
  struct Step {
    std::int32_t sequence = 0;
    std::string condition;
  };
  struct Component {
    std::string key_path, folder;
  };

  static constexpr std::pair<const char*, const char*> kAbout[] = {{"ProductName", "product"},
                                                                   {"ProductVersion", "version"},
                                                                   {"Manufacturer", "maker"},
                                                                   {"ProductCode", "product code"},
                                                                   {"UpgradeCode", "upgrade code"}};

  void each(const char* name, const std::function<void(const Row&)>& visitor) {
    try {
      const Table* table = database_.table(name);
      if (table == nullptr) return;
      for (std::size_t row = 0; row < table->rows(); ++row) visitor(Row(*table, row));
    } catch (const Error& error) {
      result_.notes.push_back(fmt::format("the table {} cannot be read: {}", name, error.what()));
    }
  }

  void custom_action(const Row& row) {
    std::int32_t type = row.number("Type");
    auto known = std::find_if(std::begin(kActionTypes), std::end(kActionTypes),
                              [&](const ActionType& one) { return one.bits == (type & 0x3F); });
    if (known == std::end(kActionTypes)) return;  // it sets a property or shows a message
    InstallAction action{known->kind, row.text("Action"), "", "", ""};
    std::string source = row.text("Source"), target = row.text("Target");
    switch (known->from) {
      case ActionType::binary:
        action.command = fmt::format("streams/Binary.{} {}", source, resolved(target));
        if (known->kind == Kind::script) action.text = stream_text("Binary." + source);
        break;
      case ActionType::file:
        action.command = fmt::format("{} {}", path_of_file(source), resolved(target));
        break;
      case ActionType::folder:
      case ActionType::property:
        action.command = resolved(target);
        if (known->from == ActionType::property)
          action.command = fmt::format("[{}] {}", source, action.command);
        break;
      case ActionType::inline_text:
        action.text = target;
        break;
    }
    action.command = trim(action.command);
    action.when = when(action.name, type);
    result_.actions.push_back(std::move(action));
  }

  std::string when(const std::string& action, std::int32_t type) const {
    std::string text;
    auto add = [&](const std::string& part) { text += (text.empty() ? "" : ", ") + part; };
    if ((type & 0x100) != 0) add("when rolled back");
    if ((type & 0x200) != 0) add("when committed");
    if ((type & 0x400) != 0 && (type & 0x300) == 0) add("deferred");
    if ((type & 0xC00) == 0xC00) add("as the system");
    auto step = steps_.find(action);
    if (step == steps_.end()) {
      add("only when called");
    } else {
      add(fmt::format("step {}", step->second.sequence));
      if (!step->second.condition.empty()) add("if " + step->second.condition);
    }
    return text;
  }

  void service(const Row& row) {
    InstallAction action{Kind::service, row.text("Name"), "", "", ""};
    auto start = static_cast<std::size_t>(row.number("StartType", 4));
    action.when = start < std::size(kStartTypes) ? std::string(kStartTypes[start]) : std::to_string(start);
    action.command = trim(path_of_component(row.text("Component_")) + " " + resolved(row.text("Arguments")));
    if (std::string shown = row.text("DisplayName"); !shown.empty() && shown != action.name)
      action.name += fmt::format(" (\"{}\")", shown);
    result_.actions.push_back(std::move(action));
  }

  void registry(const Row& row) {
    std::int64_t number = row.number("Root");
    auto root = static_cast<std::size_t>(number + 1);
    RegistryValue value;
    value.key =
        fmt::format("{}\\{}", root < std::size(kRoots) ? kRoots[root] : "?", resolved(row.text("Key")));
    value.name = resolved(row.text("Name"));
    value.value = resolved(row.text("Value"));
    std::string lower = to_lower(value.key);
    bool runs = std::any_of(std::begin(kRunKeys), std::end(kRunKeys),
                            [&](std::string_view key) { return lower.ends_with(key); });
    if (runs && !value.value.empty())
      result_.actions.push_back(
          {Kind::autostart, value.name, "at log-in (" + value.key + ")", value.value, ""});
    result_.registry.push_back(std::move(value));
  }

  void shortcut(const Row& row) {
    Shortcut made;
    std::string folder = row.text("Directory_"), target = row.text("Target");
    auto known = tree_.folders.find(folder);
    std::string place = known == tree_.folders.end() ? folder : known->second;
    made.path = (place.empty() ? "" : place + "/") + std::string(long_name(row.text("Name"))) + ".lnk";
    made.target = target.starts_with('[') ? resolved(target) : path_of_component(row.text("Component_"));
    made.target = trim(made.target + " " + resolved(row.text("Arguments")));
    made.about = row.text("Description");
    if (place == "Startup")
      result_.actions.push_back({Kind::autostart, made.path, "at log-in (start-up folder)", made.target, ""});
    result_.shortcuts.push_back(std::move(made));
  }

  std::string path_of_file(const std::string& key) const {
    auto found = tree_.key_paths.find(key);
    return found == tree_.key_paths.end() ? key : found->second;
  }

  std::string path_of_folder(const std::string& key) const {
    auto found = tree_.folders.find(key);
    return found == tree_.folders.end() ? "" : found->second;
  }

  std::string path_of_component(const std::string& key) const {
    auto found = components_.find(key);
    if (found == components_.end()) return key;
    return found->second.key_path.empty() ? path_of_folder(found->second.folder)
                                          : path_of_file(found->second.key_path);
  }

  /// Formatted text: "[#file]", "[!file]", "[FOLDER]", "[Property]" and "[\x]" with what they stand for; what
  /// is known only on the machine stays as it is.
  std::string resolved(std::string_view text) const {
    std::string result;
    while (!text.empty()) {
      std::size_t open = text.find('[');
      std::size_t close = open == std::string_view::npos ? open : text.find(']', open);
      if (close == std::string_view::npos) return result.append(text);
      result.append(text.substr(0, open));
      result.append(value_of(text.substr(open, close + 1 - open)));
      text.remove_prefix(close + 1);
    }
    return result;
  }

  std::string value_of(std::string_view bracketed) const {
    std::string_view inner = bracketed.substr(1, bracketed.size() - 2);
    if (inner.empty()) return std::string(bracketed);
    std::string rest(inner.substr(1));
    switch (inner[0]) {
      case '#':
      case '!':
        return path_of_file(rest);
      case '\\':
        return rest;
      case '~':
        return "; ";  // between the values of a list
      default:
        break;
    }
    if (auto folder = tree_.folders.find(std::string(inner)); folder != tree_.folders.end())
      return folder->second + "/";
    auto property = properties_.find(std::string(inner));
    return property == properties_.end() ? std::string(bracketed) : property->second;
  }

  std::string stream_text(const std::string& name) {
    try {
      SourcePtr source = database_.stream(name);
      if (!source) return "";
      Bytes raw = read_up_to(*source, 0, kMostScript);
      if (starts_with(raw, "\xFF\xFE")) return to_utf8(as_text(raw).substr(2), "UTF-16LE").value_or("");
      std::string_view text = as_text(raw);
      return is_utf8(text) ? std::string(text) : to_utf8(text, "CP1252").value_or("");
    } catch (const Error& error) {
      return fmt::format("(cannot be read: {})", error.what());
    }
  }

  const Database& database_;
  const InstallTree& tree_;
  Installation result_;
  std::map<std::string, std::string> properties_;
  std::map<std::string, Component> components_;
  std::map<std::string, Step> steps_;  // by action
};

}  // namespace

Installation read_installation(const Database& database, const InstallTree& tree, Facts summary) {
  return Reporter(database, tree).read(std::move(summary));
}

}  // namespace operculum::msi
