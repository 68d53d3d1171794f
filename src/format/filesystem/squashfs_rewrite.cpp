#include "format/filesystem/squashfs_rewrite.h"

#include <algorithm>

#include "base/parallel.h"
#include "io/digest.h"

namespace operculum::squash {
namespace {

std::uint64_t packed_length(const OldFile& file) {
  std::uint64_t length = 0;
  for (std::uint32_t word : file.sizes) length += word & ~kDataStored;
  return length;
}

}  // namespace

void DataRewriter::run(const std::vector<OldFile>& files, TreeNode& root) {
  gather(files);
  for (const OldFile& file : files) {
    if (!file.stays()) continue;
    StoredFile& stored = files_[file.node];
    stored.size = file.inode.size;
    stored.sparse = file.inode.sparse;
    stored.sizes = file.sizes;
  }
  for (const auto& [at, piece] : pieces_) piece.fragment ? write_fragment(piece) : write_run(at, piece);
  each_node(root, "", [&](TreeNode& node, const std::string&) { put_new(node); });
}

void DataRewriter::gather(const std::vector<OldFile>& files) {
  for (const OldFile& file : files) {
    if (std::uint64_t length = packed_length(file); length > 0) {
      Piece& piece = pieces_[file.inode.start];
      piece.length = std::max(piece.length, length);
      piece.users.push_back(&file);
    }
    if (file.inode.fragment == kNoFragment) continue;
    Piece& piece = pieces_[volume_.fragment_record(file.inode.fragment).start];
    piece.fragment = file.inode.fragment;
    piece.users.push_back(&file);
  }
}

void DataRewriter::write_run(std::uint64_t at, const Piece& piece) {
  std::vector<StoredFile*> staying;
  for (const OldFile* user : piece.users) {
    if (user->stays()) staying.push_back(&files_.at(user->node));
  }
  if (!staying.empty()) {
    writer_.keep(image_, at, piece.length, [staying](std::uint64_t place) {
      for (StoredFile* one : staying) one->start = place;
    });
  }
  for (const OldFile* user : piece.users) {
    if (user->node != nullptr) put_new(*user->node);
  }
}

void DataRewriter::write_fragment(const Piece& piece) {
  bool as_it_is =
      std::all_of(piece.users.begin(), piece.users.end(), [](const OldFile* one) { return one->stays(); });
  if (as_it_is) {
    std::uint32_t number = writer_.keep_fragment(image_, volume_.fragment_record(*piece.fragment));
    for (const OldFile* user : piece.users) {
      files_.at(user->node).fragment = number;
      files_.at(user->node).offset = user->inode.offset;
    }
    return;
  }
  std::vector<const OldFile*> users = piece.users;
  std::stable_sort(users.begin(), users.end(),
                   [](const OldFile* a, const OldFile* b) { return a->inode.offset < b->inode.offset; });
  BytesPtr bytes;
  std::map<std::pair<std::uint32_t, std::uint64_t>, const StoredFile*> done;  // tails that several share
  for (const OldFile* user : users) {
    if (!user->stays()) {
      if (user->node != nullptr) put_new(*user->node);
      continue;
    }
    if (!bytes) bytes = volume_.fragment(*piece.fragment);
    StoredFile& file = files_.at(user->node);
    std::uint64_t length = user->inode.size - std::uint64_t{user->sizes.size()} * volume_.super().block_size;
    if (user->inode.offset > bytes->size() || length > bytes->size() - user->inode.offset)
      throw Malformed("SquashFS: a file's end is not within its fragment");
    auto& shared = done[{user->inode.offset, length}];
    if (shared != nullptr) {
      file.fragment = shared->fragment;
      file.offset = shared->offset;
    } else {
      writer_.add_tail(ByteView(*bytes).subspan(user->inode.offset, static_cast<std::size_t>(length)), file);
      shared = &file;
    }
  }
}

/// Once for each node, whatever leads to it.
void DataRewriter::put_new(const TreeNode& node) {
  if (node.kind != EntryKind::file || !node.content || node.same_as != nullptr) return;
  auto [found, is_new] = files_.try_emplace(&node);
  if (is_new) writer_.add(*node.content, found->second);
}

Assembly pack_files(TreeNode& root, const Form& form, unsigned jobs, DataWriter& writer, StoredFiles& files) {
  std::vector<const TreeNode*> all;
  std::map<std::uint64_t, std::size_t> of_size;
  each_node(root, "", [&](TreeNode& node, const std::string&) {
    if (node.kind != EntryKind::file || node.same_as != nullptr || node.size == 0) return;
    all.push_back(&node);
    ++of_size[node.size];
  });
  std::vector<std::string> digests(all.size());
  for_each_of(all.size(), jobs, [&](std::size_t i) {
    bool may_be_equal = form.has(duplicates_once) && of_size.at(all[i]->size) > 1;
    if (may_be_equal) digests[i] = stream_digest(*all[i]->content->stream(), "sha256");
  });
  std::map<std::string, const TreeNode*> first;
  std::vector<std::pair<const TreeNode*, const TreeNode*>> equal;
  for (std::size_t i = 0; i < all.size(); ++i) {
    if (!digests[i].empty()) {
      auto [known, is_new] = first.emplace(digests[i], all[i]);
      if (!is_new) {
        equal.emplace_back(all[i], known->second);
        continue;
      }
    }
    writer.add(*all[i]->content, files[all[i]]);
  }
  Assembly data = writer.finish();
  for (auto [node, like] : equal) files[node] = files.at(like);
  return data;
}

}  // namespace operculum::squash
