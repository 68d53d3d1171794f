#include "task/receipt.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/checksum.h"
#include "base/text.h"
#include "io/file_source.h"
#include "io/output_folder.h"
#include "io/stream.h"
#include "task/new_file.h"
#include "task/receipt_json.h"

namespace operculum {
namespace {

constexpr std::size_t kNone = SIZE_MAX;

std::optional<Receipt::Kind> kind_of(const UnpackEvent& event) {
  switch (event.kind) {
    case UnpackEvent::Kind::file:
      return Receipt::Kind::file;
    case UnpackEvent::Kind::folder:
      return Receipt::Kind::folder;
    case UnpackEvent::Kind::link:
      return event.hard_link ? Receipt::Kind::hard_link : Receipt::Kind::link;
    default:
      return std::nullopt;
  }
}

}  // namespace

Receipt::Item::More& Receipt::Item::more() {
  if (!more_) more_ = std::make_unique<More>();
  return *more_;
}

void Receipt::Item::set_link_target(std::string target) {
  if (!target.empty()) more().link_target = std::move(target);
}

void Receipt::Item::set_replaced(std::string path) {
  if (!path.empty()) more().replaced = std::move(path);
}

/// Of files of one path the last; kNone: there is none.
std::size_t Receipt::file_called(const std::string& path) {
  for (; known_ < items.size(); ++known_) {
    const Item& item = items[known_];
    if (item.kind == Kind::file || item.kind == Kind::hard_link) files_.insert_or_assign(item.path, known_);
  }
  auto found = files_.find(path);
  return found == files_.end() ? kNone : found->second;
}

void Receipt::add(const UnpackEvent& event) {
  auto kind = kind_of(event);
  if (!kind) return;
  Item item;
  item.path = event.output;
  item.size = event.size;
  item.kind = *kind;
  item.sha256 = sha256_from(event.sha256);
  item.set_replaced(event.replaced);
  if (item.kind == Kind::hard_link) {
    std::size_t shared = file_called(event.link_target);
    if (shared == kNone) return;  // of a file that is not this receipt's: it stays
    item.size = items[shared].size;
    item.sha256 = items[shared].sha256;
  } else {
    item.set_link_target(event.link_target);
  }
  items.push_back(std::move(item));
}

std::string Receipt::seal() const {
  Sha256 digest;
  for (const Item& item : items) {
    std::string line = fmt::format(
        "{}\n{}\n{}\n{}\n{}\n{}\n", escape(item.path), receipt_kind_name(item.kind), item.size,
        item.sha256 ? to_hex(*item.sha256) : "", escape(item.link_target()), escape(item.replaced()));
    digest.add(as_bytes(line));
  }
  return digest.finish_hex();
}

std::string Receipt::seal_path(std::string_view seal) {
  constexpr std::size_t kEnough = 16;  // digits of the digest: tells seals apart
  return fmt::format(".operculum-{}.seal", seal.substr(0, kEnough));
}

void Receipt::write(const std::string& path) const {
  write_new_text(path, [&](const TextSink& sink) { write_receipt_json(*this, sink); });
  if (items.empty()) return;
  std::string sealed_by = seal();
  OutputFile sealed = OutputFolder(folder, OutputFolder::Must::be_there).begin_file(seal_path(sealed_by));
  sealed.write(as_bytes(sealed_by));
  sealed.commit({}, Existing::keep);
}

Receipt Receipt::read(const std::string& path) {
  return read_receipt_json(make_source_stream(open_file(path)));
}

std::optional<std::array<Byte, 32>> sha256_from(std::string_view digits) {
  auto bytes = from_hex(digits);
  std::array<Byte, 32> digest;
  if (!bytes || bytes->size() != digest.size()) return std::nullopt;
  std::copy(bytes->begin(), bytes->end(), digest.begin());
  return digest;
}

}  // namespace operculum
