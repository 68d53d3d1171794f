#pragma once

#include <optional>
#include <string>
#include <vector>

#include "study/chunk_search.h"
#include "study/frame.h"
#include "study/naming.h"
#include "study/nesting.h"
#include "study/placement.h"

namespace operculum::study {

/// How the data of entries is packed.
struct Packing {
  std::string transform;  ///< in the layout language: "zlib"; empty: stored as it is
  std::string condition;  ///< when it is, such as "item.stored < item.size"; empty: always
};

/// One explanation of a file: where its index lies, what its columns mean, where the data is.
struct Hypothesis {
  Grid grid;
  std::vector<Column> columns;  ///< by their place
  Placement placement;
  std::optional<NameTable> names;
  Packing packing;
  std::optional<Nesting> nesting;
  std::optional<Chunks> chunks;    ///< then the grid holds those that are no groups
  std::vector<HeadField> head;     ///< numbers about the whole that were found
  std::string count, begin, base;  ///< expressions of the layout language; an empty count: up to the end
  std::string counted_from;        ///< the same, where places are not counted up: the base is none then
  std::string goes_on;  ///< the condition under which records go on, where that is told by what follows
  std::string names_at, space_at, packed_size;  ///< the same of the table of names, and of a packed index
  bool backslashes = false;                     ///< names have them between folders
  bool sentinel = false;                        ///< the last record only tells where the data ends
  bool nameless_end = false;                    ///< it has no name
  std::string unexplained_count;                ///< not empty: the count is this file's alone
  double bits = 0;                              ///< how unlikely chance is, as a logarithm
  std::vector<std::string> evidence;            ///< in words

  const Column* column(Role role) const;
  void add(Column column);  ///< to the columns, at its place
};

/// What records mean, as far as it can be told, when one of these pairs places their data, or sizes alone do;
/// nothing when none does. `known` is where the data is, when that was settled before.
std::optional<Hypothesis> explain(Grid grid, const Frame& frame, std::vector<Pair> pairs,
                                  std::optional<Placement> known = std::nullopt);

/// Adds to the best ones, the likeliest first; of those that read the same numbers one stays.
void keep_best(std::vector<Hypothesis>& best, Hypothesis found);

/// Keeps what the likeliest of the pairs, each by itself, make of the records.
void keep_explained(std::vector<Hypothesis>& best, const Grid& grid, const Frame& frame,
                    const std::vector<Pair>& pairs);

/// Lets an index that was freed of a key begin with its records, where nothing in front of them is told.
void drop_front_of_keyed(Hypothesis& found);

/// Compares where entries begin with where something begins that is recognised by itself.
void explain_anchors(Hypothesis& found, const Subject& subject);

/// Looks for the names of records that have none, in a table of texts, and for what names tell.
void explain_names(Hypothesis& found, const Subject& subject);

}  // namespace operculum::study
