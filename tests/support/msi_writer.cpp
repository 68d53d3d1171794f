#include "support/msi_writer.h"

#include <fmt/format.h>

#include <stdexcept>

#include "support/byte_writer.h"
#include "support/cfb_writer.h"
#include "support/pack_tools.h"

namespace operculum::test {
namespace {

using Kind = MsiColumn::Kind;

constexpr std::string_view kAlphabet = "0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz._";

/// Two characters of the alphabet in one unit; tables begin with a mark.
std::u16string packed_name(std::string_view name, bool table) {
  std::u16string out;
  if (table) out.push_back(0x4840);
  for (std::size_t i = 0; i < name.size(); ++i) {
    std::size_t first = kAlphabet.find(name[i]);
    if (first == std::string_view::npos) {
      out.push_back(static_cast<char16_t>(static_cast<unsigned char>(name[i])));
      continue;
    }
    std::size_t second = i + 1 < name.size() ? kAlphabet.find(name[i + 1]) : std::string_view::npos;
    if (second == std::string_view::npos) {
      out.push_back(static_cast<char16_t>(0x4800 + first));
    } else {
      out.push_back(static_cast<char16_t>(0x3800 + first + (second << 6)));
      ++i;
    }
  }
  return out;
}

/// Every string once, numbered from 1.
class Pool {
 public:
  std::uint32_t number(const std::string& text) {
    if (text.empty()) return 0;
    auto [known, is_new] = numbers_.try_emplace(text, static_cast<std::uint32_t>(texts_.size() + 1));
    if (is_new) texts_.push_back(text);
    return known->second;
  }
  Bytes index(unsigned code_page, bool wide) const {
    ByteWriter out;
    out.u16(code_page).u16(wide ? 0x8000 : 0);
    for (const std::string& text : texts_) {
      if (text.size() > 0xFFFF) {
        out.u16(0).u16(1).u32(text.size());
      } else {
        out.u16(text.size()).u16(1);
      }
    }
    return out.take();
  }
  Bytes data() const {
    ByteWriter out;
    for (const std::string& text : texts_) out.text(text);
    return out.take();
  }

 private:
  std::map<std::string, std::uint32_t> numbers_;
  std::vector<std::string> texts_;
};

unsigned type_of(const MsiColumn& column) {
  unsigned key = column.key ? 0x2000 : 0x1000;
  switch (column.kind) {
    case Kind::text:
      return 0x0D48 | key;
    case Kind::number16:
      return 0x0502 | key;
    case Kind::number32:
      return 0x0104 | key;
    case Kind::stream:
      return 0x0900 | 0x1000;
  }
  throw std::logic_error("no such column");
}

Bytes table_bytes(const MsiTable& table, Pool& pool, bool wide) {
  ByteWriter out;
  for (std::size_t c = 0; c < table.columns.size(); ++c) {
    for (const auto& row : table.rows) {
      const MsiValue& value = row.at(c);
      switch (table.columns[c].kind) {
        case Kind::text: {
          std::uint32_t number =
              std::holds_alternative<std::string>(value) ? pool.number(std::get<std::string>(value)) : 0;
          out.u16(number);
          if (wide) out.u8(number >> 16);
          break;
        }
        case Kind::number32:
          out.u32(std::holds_alternative<std::int32_t>(value)
                      ? static_cast<std::uint32_t>(std::get<std::int32_t>(value)) ^ 0x80000000
                      : 0);
          break;
        default:
          out.u16(std::holds_alternative<std::int32_t>(value)
                      ? static_cast<std::uint32_t>(std::get<std::int32_t>(value) +
                                                   (table.columns[c].kind == Kind::stream ? 0 : 0x8000))
                      : 0);
      }
    }
  }
  return out.take();
}

/// A property set with texts and the word count.
Bytes summary(const std::map<unsigned, std::string>& texts, unsigned word_count) {
  ByteWriter values, places;
  std::size_t count = texts.size() + 2, at = 8 + count * 8;
  auto place = [&](unsigned id) { places.u32(id).u32(at + values.size()); };
  place(1);
  values.u32(2).u32(1252);
  for (const auto& [id, text] : texts) {
    place(id);
    values.u32(30).u32(text.size() + 1).text(text).u8(0).align(4);
  }
  place(15);
  values.u32(3).u32(word_count);
  ByteWriter out;
  out.u16(0xFFFE).u16(0).u32(0x20005).zeros(16).u32(1).zeros(16).u32(48);
  return out.u32(8 + places.size() + values.size())
      .u32(count)
      .bytes(places.view())
      .bytes(values.view())
      .take();
}

}  // namespace

Bytes make_msi(const MsiContents& contents) {
  Pool pool;
  bool wide = contents.wide_references;
  std::vector<CfbNode> nodes;
  MsiTable tables{"_Tables", {{"Name", Kind::text, true}}, {}};
  MsiTable columns{
      "_Columns",
      {{"Table", Kind::text, true}, {"Number", Kind::number16, true}, {"Name"}, {"Type", Kind::number16}},
      {}};
  for (const MsiTable& table : contents.tables) {
    tables.rows.push_back({table.name});
    for (std::size_t i = 0; i < table.columns.size(); ++i) {
      columns.rows.push_back({table.name, static_cast<std::int32_t>(i + 1), table.columns[i].name,
                              static_cast<std::int32_t>(type_of(table.columns[i]))});
    }
    nodes.push_back({.name = packed_name(table.name, true), .data = table_bytes(table, pool, wide)});
  }
  nodes.push_back({.name = packed_name("_Tables", true), .data = table_bytes(tables, pool, wide)});
  nodes.push_back({.name = packed_name("_Columns", true), .data = table_bytes(columns, pool, wide)});
  nodes.push_back({.name = packed_name("_StringPool", true), .data = pool.index(contents.code_page, wide)});
  nodes.push_back({.name = packed_name("_StringData", true), .data = pool.data()});
  for (const auto& [name, data] : contents.streams)
    nodes.push_back({.name = packed_name(name, false), .data = data});
  nodes.push_back(
      {.name = u"\5SummaryInformation",
       .data = summary({{2, "Installation Database"}, {3, "Chart Display"}, {4, "Saltmarsh Point"}},
                       contents.word_count)});
  Bytes class_id = ByteWriter().u32(0x000C1084).u32(0).u32(0xC0).u32(0x46000000).take();
  return make_cfb(nodes, 3, class_id);
}

MsiContents sample_msi(const std::map<std::string, Bytes>& files, const Bytes& cabinet,
                       const std::string& cabinet_name) {
  MsiContents contents;
  MsiTable property{"Property",
                    {{"Property", Kind::text, true}, {"Value"}},
                    {{"ProductName", "Saltmarsh Point Chart Display"},
                     {"ProductVersion", "2.1.0"},
                     {"Manufacturer", "Saltmarsh Point"}}};
  MsiTable directory{"Directory",
                     {{"Directory", Kind::text, true}, {"Directory_Parent"}, {"DefaultDir"}},
                     {{"TARGETDIR", std::monostate(), "SourceDir"},
                      {"ProgramFilesFolder", "TARGETDIR", "."},
                      {"StartupFolder", "TARGETDIR", "."},
                      {"CHART", "ProgramFilesFolder", "CHARTD~1|Chart Display:source"}}};
  MsiTable component{"Component",
                     {{"Component", Kind::text, true},
                      {"ComponentId"},
                      {"Directory_"},
                      {"Attributes", Kind::number16},
                      {"Condition"},
                      {"KeyPath"}},
                     {}};
  MsiTable file{"File",
                {{"File", Kind::text, true},
                 {"Component_"},
                 {"FileName"},
                 {"FileSize", Kind::number32},
                 {"Version"},
                 {"Language"},
                 {"Attributes", Kind::number16},
                 {"Sequence", Kind::number32}},
                {}};
  MsiTable hash{"MsiFileHash",
                {{"File_", Kind::text, true},
                 {"Options", Kind::number16},
                 {"HashPart1", Kind::number32},
                 {"HashPart2", Kind::number32},
                 {"HashPart3", Kind::number32},
                 {"HashPart4", Kind::number32}},
                {}};
  std::map<std::string, std::string> folders = {{"", "CHART"}};
  std::int32_t sequence = 0;
  for (const auto& [path, data] : files) {
    std::size_t slash = path.rfind('/');
    std::string folder = slash == std::string::npos ? "" : path.substr(0, slash);
    auto [known, is_new] = folders.try_emplace(folder, fmt::format("D{}", folders.size()));
    if (is_new)
      directory.rows.push_back({known->second, "CHART", fmt::format("D{}|{}", folders.size(), folder)});
    std::string key = fmt::format("f{}", ++sequence), owner = fmt::format("c{}", sequence);
    component.rows.push_back({owner, std::monostate(), known->second, 0, std::monostate(), key});
    file.rows.push_back(
        {key, owner, fmt::format("F{}|{}", sequence, path.substr(slash == std::string::npos ? 0 : slash + 1)),
         static_cast<std::int32_t>(data.size()), std::monostate(), std::monostate(), 0, sequence});
    Bytes md5 = digest("MD5", data);
    std::vector<MsiValue> row = {key, 0};
    for (std::size_t i = 0; i < 4; ++i) {
      std::uint32_t part = 0;
      for (unsigned b = 0; b < 4; ++b) part |= std::uint32_t{md5[i * 4 + b]} << (8 * b);
      row.emplace_back(static_cast<std::int32_t>(part));
    }
    hash.rows.push_back(row);
  }
  MsiTable media{"Media",
                 {{"DiskId", Kind::number16, true},
                  {"LastSequence", Kind::number32},
                  {"DiskPrompt"},
                  {"Cabinet"},
                  {"VolumeLabel"},
                  {"Source"}},
                 {{1, sequence, std::monostate(), cabinet_name, std::monostate(), std::monostate()}}};
  MsiTable registry{"Registry",
                    {{"Registry", Kind::text, true},
                     {"Root", Kind::number16},
                     {"Key"},
                     {"Name"},
                     {"Value"},
                     {"Component_"}},
                    {{"r1", 2, "Software\\Microsoft\\Windows\\CurrentVersion\\Run", "ChartDisplay",
                      "\"[#f1]\" --kiosk", "c1"},
                     {"r2", 2, "Software\\Saltmarsh Point", "Folder", "[CHART]", "c1"}}};
  MsiTable service{"ServiceInstall",
                   {{"ServiceInstall", Kind::text, true},
                    {"Name"},
                    {"DisplayName"},
                    {"ServiceType", Kind::number32},
                    {"StartType", Kind::number32},
                    {"Arguments"},
                    {"Component_"}},
                   {{"s1", "TideFeed", "Tide feed", 16, 2, "--listen", "c1"}}};
  MsiTable shortcut{
      "Shortcut",
      {{"Shortcut", Kind::text, true},
       {"Directory_"},
       {"Name"},
       {"Component_"},
       {"Target"},
       {"Arguments"},
       {"Description"}},
      {{"k1", "StartupFolder", "CHART|Chart display", "c1", "[#f1]", "--quiet", "Shows the tide chart"}}};
  MsiTable action{
      "CustomAction",
      {{"Action", Kind::text, true}, {"Type", Kind::number16}, {"Source"}, {"Target"}},
      {{"TellCurator", 6, "Tell", "Tell"}, {"SetFolder", 51, "CHART", "x"}, {"Warm", 3090, "f1", "--warm"}}};
  MsiTable sequence_table{"InstallExecuteSequence",
                          {{"Action", Kind::text, true}, {"Condition"}, {"Sequence", Kind::number16}},
                          {{"TellCurator", "NOT Installed", 6400}, {"Warm", std::monostate(), 4100}}};
  MsiTable binary{"Binary", {{"Name", Kind::text, true}, {"Data", Kind::stream}}, {{"Tell", 1}}};
  contents.tables = {property, directory, component, file,   hash,           media,
                     registry, service,   shortcut,  action, sequence_table, binary};
  contents.streams["Binary.Tell"] =
      to_bytes("Function Tell\r\n  MsgBox \"The chart display is ready.\"\r\nEnd Function\r\n");
  if (cabinet_name.starts_with('#')) contents.streams[cabinet_name.substr(1)] = cabinet;
  return contents;
}

}  // namespace operculum::test
