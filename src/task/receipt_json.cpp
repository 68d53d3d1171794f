#include "task/receipt_json.h"

#include <fmt/format.h>

#include <algorithm>
#include <istream>
#include <iterator>
#include <nlohmann/json.hpp>
#include <streambuf>

#include "base/error.h"
#include "base/text.h"

namespace operculum {
namespace {

using nlohmann::ordered_json;

constexpr std::string_view kDocument = "operculum receipt";
constexpr std::uint64_t kVersion = 2;
constexpr std::string_view kKinds[] = {"file", "folder", "link", "hard link"};

std::string json_of(const Receipt::Item& item) {
  // Bytes that are no UTF-8 would not survive JSON; escape() can be undone.
  ordered_json one = {{"path", escape(item.path)}, {"kind", receipt_kind_name(item.kind)}};
  if (item.sha256) {
    one["size"] = item.size;
    one["sha256"] = to_hex(*item.sha256);
  }
  if (!item.link_target().empty()) one["link_target"] = escape(item.link_target());
  if (!item.replaced().empty()) one["replaced"] = escape(item.replaced());
  return one.dump();
}

/// A stream as the standard library reads it.
class StreamBuffer final : public std::streambuf {
 public:
  explicit StreamBuffer(StreamPtr stream) : stream_(std::move(stream)) {}

 protected:
  int_type underflow() override {
    std::size_t count = stream_->read(block_);
    char* begin = reinterpret_cast<char*>(block_.data());
    setg(begin, begin, begin + count);
    return count == 0 ? traits_type::eof() : traits_type::to_int_type(*begin);
  }

 private:
  StreamPtr stream_;
  Bytes block_ = Bytes(64 << 10);
};

[[noreturn]] void refuse() {
  throw Malformed("the file is no receipt: expected the JSON that unpack --receipt writes");
}

std::string plain(const std::string& escaped) {
  auto value = unescape(escaped);
  if (!value) throw Malformed("the receipt has a path that is not written as this program writes it");
  return *std::move(value);
}

/// Takes what the parser meets: fields of the document, and of the items in its list.
class Reader final : public nlohmann::json_sax<ordered_json> {
 public:
  Receipt finish() && {
    if (!known_ || !versioned_ || !sourced_ || !placed_ || !told_ || !listed_) refuse();
    return std::move(receipt_);
  }

  bool null() override { refuse(); }
  bool number_integer(number_integer_t) override { refuse(); }
  bool number_float(number_float_t, const string_t&) override { refuse(); }
  bool binary(binary_t&) override { refuse(); }
  bool parse_error(std::size_t, const std::string&, const nlohmann::json::exception&) override { refuse(); }

  bool boolean(bool value) override {
    if (depth_ == 1 && key_ == "complete") receipt_.complete = value, told_ = true;
    return true;
  }

  bool number_unsigned(number_unsigned_t value) override {
    if (depth_ == 1 && key_ == "version") {
      if (value != kVersion) not_of_this_version();
      versioned_ = true;
    }
    if (in_item() && key_ == "size") item_.size = value;
    return true;
  }

  bool string(string_t& value) override {
    if (depth_ == 1) take_field(value);
    if (in_item()) take_item_field(value);
    return true;
  }

  bool start_object(std::size_t) override {
    ++depth_;
    if (in_item()) {
      item_ = {};
      named_ = kind_known_ = false;
    }
    return true;
  }

  bool end_object() override {
    if (in_item()) {
      if (!named_ || !kind_known_) refuse();
      receipt_.items.push_back(std::move(item_));
    }
    --depth_;
    return true;
  }

  bool key(string_t& value) override {
    key_ = value;
    return true;
  }

  bool start_array(std::size_t) override {
    ++depth_;
    if (depth_ == 2 && key_ == "written") in_list_ = listed_ = true;
    return true;
  }

  bool end_array() override {
    if (depth_ == 2) in_list_ = false;
    --depth_;
    return true;
  }

 private:
  bool in_item() const { return in_list_ && depth_ == 3; }

  [[noreturn]] static void not_of_this_version() {
    throw Malformed("the file is no receipt of this program's version");
  }

  void take_field(const std::string& value) {
    if (key_ == "kind") {
      if (value != kDocument) not_of_this_version();
      known_ = true;
    } else if (key_ == "source") {
      receipt_.source = plain(value);
      sourced_ = true;
    } else if (key_ == "folder") {
      receipt_.folder = plain(value);
      placed_ = true;
    }
  }

  void take_item_field(const std::string& value) {
    if (key_ == "path") {
      item_.path = plain(value);
      named_ = true;
    } else if (key_ == "kind") {
      auto kind = std::find(std::begin(kKinds), std::end(kKinds), value);
      if (kind == std::end(kKinds)) refuse();
      item_.kind = static_cast<Receipt::Kind>(kind - std::begin(kKinds));
      kind_known_ = true;
    } else if (key_ == "sha256") {
      item_.sha256 = sha256_from(value);
      if (!item_.sha256) refuse();
    } else if (key_ == "link_target") {
      item_.set_link_target(plain(value));
    } else if (key_ == "replaced") {
      item_.set_replaced(plain(value));
    }
  }

  Receipt receipt_;
  Receipt::Item item_;
  std::string key_;
  std::size_t depth_ = 0;
  bool in_list_ = false;
  bool known_ = false, versioned_ = false, sourced_ = false, placed_ = false, told_ = false, listed_ = false;
  bool named_ = false, kind_known_ = false;  // of the item
};

}  // namespace

std::string_view receipt_kind_name(Receipt::Kind kind) {
  return kKinds[static_cast<std::size_t>(kind)];
}

void write_receipt_json(const Receipt& receipt, const TextSink& sink) {
  ordered_json head = {{"kind", kDocument},
                       {"version", kVersion},
                       {"source", escape(receipt.source)},
                       {"folder", escape(receipt.folder)},
                       {"complete", receipt.complete}};
  std::string text = head.dump(1);
  text.resize(text.rfind('\n'));  // without the brace that closes it
  sink(text + ",\n \"written\": [");
  bool first = true;
  for (const Receipt::Item& item : receipt.items) {
    sink(first ? "\n  " : ",\n  ");
    sink(json_of(item));
    first = false;
  }
  sink(first ? "]\n}\n" : "\n ]\n}\n");
}

Receipt read_receipt_json(StreamPtr text) {
  StreamBuffer buffer(std::move(text));
  std::istream in(&buffer);
  Reader reader;
  if (!ordered_json::sax_parse(in, &reader)) refuse();
  return std::move(reader).finish();
}

}  // namespace operculum
