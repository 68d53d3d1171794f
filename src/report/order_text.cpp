#include "report/order_text.h"

#include <fmt/format.h>

#include "base/text.h"
#include "base/units.h"
#include "report/text_table.h"

namespace operculum {

std::string_view name_of(Provider::Standing standing) {
  constexpr std::string_view kNames[] = {"same", "differs", "unknown"};
  return kNames[static_cast<std::size_t>(standing)];
}

std::string pack_name(const LoadedPack& pack) {
  std::string_view name = pack.target;
  while (name.size() > 1 && name.ends_with('/')) name.remove_suffix(1);
  return escape(base_name(name));
}

Shown packs_table(const LoadingOrder& order) {
  using Align = TextTable::Align;
  TextTable table({{"loaded", Align::right},
                   {"pack"},
                   {"files", Align::right},
                   {"wins", Align::right},
                   {"hidden", Align::right},
                   {"hidden, same", Align::right},
                   {"is"}});
  std::size_t number = 0;
  for (const LoadedPack& pack : order.packs()) {
    bool open = pack.format != nullptr;
    auto count = [&](std::uint64_t value) { return open ? grouped(value) : std::string("-"); };
    table.add({std::to_string(++number), pack_name(pack), count(pack.files), count(pack.wins),
               count(pack.hidden), count(pack.hidden_same),
               open ? std::string(pack.format->name) : "not opened"});
  }
  return table.text();
}

std::string losers_text(const LoadingOrder& order, const ProvidedPath& path) {
  std::string text;
  for (const Provider& one : path.providers) {
    if (&one == &path.winner()) continue;
    text += fmt::format("{}{} ({})", text.empty() ? "over " : ", ", pack_name(order.packs()[one.pack]),
                        name_of(one.standing));
  }
  return text;
}

Shown why_text(const LoadingOrder& order, const ProvidedPath& path) {
  using Align = TextTable::Align;
  TextTable table({{"  loaded", Align::right},
                   {"pack"},
                   {"bytes", Align::right},
                   {"modified"},
                   {"CRC-32"},
                   {"stands"},
                   {"as"}});
  for (const Provider& one : path.providers) {
    bool wins = &one == &path.winner();
    const Entry& entry = *one.item->entry;
    table.add({std::to_string(one.pack + 1), pack_name(order.packs()[one.pack]),
               entry.size_known() ? grouped(entry.size) : "?", to_text(entry.modified),
               one.item->crc32 ? fmt::format("{:08x}", *one.item->crc32) : "-",
               wins ? "wins" : std::string(name_of(one.standing)), escape(one.item->path)});
  }
  return shown("{}\n{}", path.path, table.text());
}

}  // namespace operculum
