#pragma once

#include <deque>
#include <functional>

#include "container/locator.h"
#include "io/digest.h"
#include "task/progress.h"
#include "task/solid_data.h"

namespace operculum {

/// One thing in a place, as far as it matters where places are held against each other.
struct Item {
  std::string path;  ///< beneath the place; of a place that is a single file, its name
  const Entry* entry =
      nullptr;            ///< kept by the inventory; of a hard link the file that it is another name of
  std::size_t index = 0;  ///< of that entry in stored order
  std::optional<std::uint32_t> crc32;  ///< of its bytes: stored, or computed from them
  std::string sha256;                  ///< of its bytes, in digits; empty until it is computed
  std::string error;        ///< why its bytes cannot be had; empty when they can, as far as is known
  bool key_needed = false;  ///< with an error: a password is missing or wrong

  bool is_file() const { return entry->has_data(); }
};

/// What reading for an inventory is counted by.
struct Reading {
  OpenContext& context;
  Meter& meter;
  Progress& progress;
};

/// Everything in one place: a container, a folder in one, a folder on disk, or a single file. Of a container
/// that can only be read from its start, the bytes pass by while it is listed and their sums are taken; of
/// the others nothing is decoded until content() is asked for. Not to be copied; items point into it.
class Inventory {
 public:
  /// Throws what opening throws; what is wrong with a file is kept in its item.
  Inventory(const Place& place, const Reading& reading);
  Inventory(const Inventory&) = delete;
  Inventory& operator=(const Inventory&) = delete;

  std::vector<Item> items;  ///< in stored order; of several that replace each other the last

  const Format* format() const { return format_; }  ///< null for a single file
  bool is_single() const { return format_ == nullptr; }

  /// Makes content() possible for these items of a container that can only be read from its start.
  void keep(const std::function<bool(const Item&)>& wanted, OpenContext& context);

  /// The bytes of a file. Throws what the container throws. Safe to call from several threads.
  ContentPtr content(const Item& item) const;

 private:
  void list_random(const std::string& inside);
  void list_forward(const std::string& inside, const Reading& reading);
  void add(const Entry& entry, std::size_t index, const std::string& inside);
  void follow_hard_links();
  void drop_replaced();

  const Format* format_ = nullptr;
  ContainerPtr container_;
  ContentPtr single_;
  std::deque<Entry> kept_;  // entries of a container that keeps none
  std::optional<SolidData> solid_;
};

/// Takes sums of a file's bytes into its item; what goes wrong is kept there, too. Throws GuardTripped.
void sums_of(const Inventory& side, Item& item, Sums sums, const Reading& reading);
void take_sums(Item& item, Stream& stream, Sums sums, const Reading& reading);

}  // namespace operculum
