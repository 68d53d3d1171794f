#pragma once

#include "io/stream.h"
#include "task/new_file.h"
#include "task/receipt.h"

namespace operculum {

/// "file", "folder", "link", "hard link".
std::string_view receipt_kind_name(Receipt::Kind kind);

/// Writes the JSON form, item by item.
void write_receipt_json(const Receipt& receipt, const TextSink& sink);

/// Reads it as it comes; keeps the items alone. Throws Malformed where it is none.
Receipt read_receipt_json(StreamPtr text);

}  // namespace operculum
