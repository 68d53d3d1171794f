#include "format/filesystem/apfs_volume.h"

#include <algorithm>
#include <bit>

#include "base/checked.h"
#include "base/checksum.h"
#include "base/structure_fields.h"
#include "base/text.h"
#include "io/mapped_source.h"

namespace operculum::apfs {
namespace {

constexpr std::uint32_t kStorageMask = 0xC0000000, kPhysical = 0x40000000;  // of an object's type

ObjectType type_of(const ObjectHead& head) {
  return static_cast<ObjectType>(head.type & 0xFFFF);
}

/// The first number of a key: whose record it is, and of which kind.
struct Owner {
  std::uint64_t id;
  RecordType type;
};
Owner owner_of(ByteView key) {
  std::uint64_t both = structure_in<RecordKey>(key, "APFS key").obj_id_and_type;
  return {both & kIdMask, static_cast<RecordType>(both >> 60)};
}
bool is_before(ByteView key, std::uint64_t id, RecordType type) {
  Owner own = owner_of(key);
  return own.id != id ? own.id < id : own.type < type;
}
bool is_of(ByteView key, std::uint64_t id, RecordType type) {
  Owner own = owner_of(key);
  return own.id == id && own.type == type;
}

/// Shows the extended fields behind an inode (xf_blob_t): their kinds and values.
void each_field(ByteView blob, const std::function<void(unsigned kind, ByteView value)>& take) {
  constexpr std::size_t head_size = size_on_disk<FieldsHead>, row_size = size_on_disk<FieldRow>;
  if (blob.size() < head_size) return;
  LittleFields f(blob, "APFS extended fields");
  std::size_t count = structure_at<FieldsHead>(f, 0).num_exts, at = head_size + count * row_size;
  for (std::size_t i = 0; i < count; ++i) {
    auto row = structure_at<FieldRow>(f, head_size + i * row_size);
    std::size_t size = row.size;
    take(row.type, f.bytes(at, size));
    at += (size + 7) / 8 * 8;
  }
}

/// A name that ends with a zero byte, which its length counts.
std::string_view name_in(const LittleFields& f, std::size_t at, std::size_t length) {
  return until_zero(f.text(at, length));
}

VolumeSuper read_volume(const Blocks& blocks, std::uint64_t at) {
  Bytes raw = blocks.object(at, "APFS volume superblock");
  VolumeSuper super = read_structure<VolumeSuper>(raw.data());
  if (super.magic != VolumeSuper::mark)
    refuse_field("APFS volume superblock", at * blocks.size(), &VolumeSuper::magic, "\"APSB\"",
                 fmt::format("{:#010x}", super.magic));
  return super;
}

}  // namespace

/// A file's data, by its extents.
class Volume::FileSource final : public MappedSource {
 public:
  FileSource(std::shared_ptr<const Volume> volume, std::uint64_t stream, std::uint64_t size)
      : MappedSource(volume->blocks_.image(), size), volume_(std::move(volume)), stream_(stream) {}

 protected:
  MappedRun locate(std::uint64_t offset) const override {
    Run run = run_at(offset);
    std::uint64_t end = std::min(run.end, size());
    if (run.block == 0) return {MappedRun::From::zeros, end - offset};
    std::uint64_t block = volume_->blocks_.size();
    std::uint64_t begin = run.block * block;
    if (volume_->cipher_ == nullptr)
      return {MappedRun::From::stored, end - offset, begin + (offset - run.begin)};
    std::uint64_t within = offset % block;
    return {MappedRun::From::packed, std::min(block - within, size() - offset), offset / block, within};
  }

  /// A block of an encrypted file, by its number in the file.
  Bytes unpack(std::uint64_t number) const override {
    std::uint64_t block = volume_->blocks_.size();
    Run run = run_at(number * block);
    std::uint64_t within = (number * block - run.begin) / block;
    Bytes out = volume_->blocks_.raw(run.block + within, "APFS file");
    volume_->cipher_->decrypt((run.crypto_id + within) * (block / 512), out);
    return out;
  }

 private:
  /// What is known of the bytes from an offset on.
  struct Run {
    std::uint64_t begin, end;        ///< offsets in the file
    std::uint64_t block, crypto_id;  ///< block 0: a hole
  };

  static std::uint64_t offset_in(ByteView key) {
    return structure_in<ExtentKey>(key, "APFS extent").logical_addr;
  }

  Run run_at(std::uint64_t offset) const {
    const Tree* apart = volume_->extents();
    const Tree& tree = apart != nullptr ? *apart : volume_->tree();
    auto order = [&](ByteView key) {  // below, at or beyond this file's extents
      if (apart != nullptr) {
        std::uint64_t id = structure_in<ExtentKey>(key, "APFS extent").id;
        return id < stream_ ? -1 : id > stream_ ? 1 : 0;
      }
      if (is_of(key, stream_, RecordType::file_extent)) return 0;
      return is_before(key, stream_, RecordType::file_extent) ? -1 : 1;
    };
    auto not_behind = [&](ByteView key) {
      int where = order(key);
      return where != 0 ? where < 0 : offset_in(key) <= offset;
    };
    Run out{offset, UINT64_MAX, 0, 0};
    tree.last(not_behind, [&](const Record& found) {
      if (order(found.key) != 0) return;
      std::uint64_t begin = offset_in(found.key);
      auto extent = structure_in<ExtentRecord>(found.value, "APFS extent");
      std::uint64_t length = extent.len_and_flags & ExtentRecord::length_mask;
      if (offset - begin >= length) return;
      // in a tree of their own extents say nothing of a key
      std::uint64_t crypto_id =
          apart != nullptr ? 0 : LittleFields(found.value, "APFS extent").u64(size_on_disk<ExtentRecord>);
      out = {begin, checked_add(begin, length, "an APFS extent"), extent.phys_block_num, crypto_id};
    });
    if (out.end != UINT64_MAX) return out;
    tree.from(not_behind, [&](const Record& next) {
      if (order(next.key) == 0) out.end = offset_in(next.key);
      return false;
    });
    return out;
  }

  std::shared_ptr<const Volume> volume_;
  std::uint64_t stream_;
};

Volume::Volume(const Blocks& blocks, const VolumeSuper& super, ObjectMap objects, std::uint64_t xid,
               Unlock unlock)
    : blocks_(blocks), super_(super), objects_(std::move(objects)), xid_(xid), unlock_(std::move(unlock)) {}

Bytes Volume::read_node(std::uint64_t id) const {
  constexpr const char* kWhat = "APFS node of a volume";
  if ((super_.root_tree_type & kStorageMask) == kPhysical) return blocks_.object(id, kWhat);
  std::optional<MappedObject> found;
  // in sealed volumes nodes are counted from the root on
  if ((super_.incompatible_features & VolumeSuper::sealed) != 0 && id != super_.root_tree_oid)
    found = objects_.find(checked_add(super_.root_tree_oid, id, "an APFS identifier"), xid_);
  if (!found) found = objects_.find(id, xid_);
  if (!found) throw Malformed(fmt::format("APFS: its object map does not know object {}", id));
  Bytes raw = blocks_.raw(found->paddr, kWhat);
  if ((found->flags & MappedObject::encrypted) != 0) {
    if (cipher_ == nullptr)
      throw Malformed(fmt::format("APFS: object {} is encrypted, the volume is not", id));
    cipher_->decrypt(found->paddr * (blocks_.size() / 512), raw);
  }
  if ((found->flags & MappedObject::no_header) == 0) Blocks::check(raw, found->paddr, kWhat);
  return raw;
}

void Volume::open() const {
  std::call_once(opened_, [this] {
    if (unlock_) cipher_ = unlock_();
    tree_.emplace(
        super_.root_tree_oid, [this](std::uint64_t id) { return read_node(id); }, blocks_.count());
    if ((super_.incompatible_features & VolumeSuper::sealed) == 0 || super_.fext_tree_oid == 0) return;
    if ((super_.fext_tree_type & kStorageMask) != kPhysical)
      throw Unsupported("an APFS volume whose tree of extents is not in physical blocks");
    extents_.emplace(
        super_.fext_tree_oid,
        [blocks = blocks_](std::uint64_t block) { return blocks.object(block, "APFS node of extents"); },
        blocks_.count());
  });
}

const Tree& Volume::tree() const {
  open();
  return *tree_;
}
const Tree* Volume::extents() const {
  open();
  return extents_ ? &*extents_ : nullptr;
}

Inode Volume::inode(std::uint64_t id) const {
  std::optional<Inode> out;
  tree().from([&](ByteView key) { return is_before(key, id, RecordType::inode); },
              [&](const Record& found) {
                if (!is_of(found.key, id, RecordType::inode)) return false;
                out.emplace();
                out->record = structure_in<InodeRecord>(found.value, "APFS inode");
                constexpr unsigned kStream = 8, kSparseBytes = 13, kDevice = 14;  // INO_EXT_TYPE_...
                each_field(found.value.subspan(size_on_disk<InodeRecord>),
                           [&](unsigned kind, ByteView value) {
                             if (kind == kStream)
                               out->stream = structure_in<StreamSize>(value, "APFS inode's stream");
                             if (kind == kSparseBytes)
                               out->holes = structure_in<SparseBytes>(value, "APFS inode's holes").count;
                             if (kind == kDevice)
                               out->device = structure_in<DeviceNumber>(value, "APFS inode's device").rdev;
                           });
                return false;
              });
  if (!out) throw Malformed(fmt::format("APFS: inode {} is missing", id));
  return *out;
}

void Volume::names(std::uint64_t folder, const std::function<void(const Name&)>& take) const {
  bool hashed = (super_.incompatible_features &
                 (VolumeSuper::case_insensitive | VolumeSuper::normalization_insensitive)) != 0;
  tree().from([&](ByteView key) { return is_before(key, folder, RecordType::dir_rec); },
              [&](const Record& found) {
                if (!is_of(found.key, folder, RecordType::dir_rec)) return false;
                LittleFields key(found.key, "APFS name");
                std::size_t length = 0, text_at = 0;
                if (hashed) {
                  length = structure_at<HashedNameKey>(key, 0).name_len_and_hash & HashedNameKey::length_mask;
                  text_at = size_on_disk<HashedNameKey>;
                } else {
                  length = structure_at<NamedKey>(key, 0).name_len;
                  text_at = size_on_disk<NamedKey>;
                }
                auto record = structure_in<NameRecord>(found.value, "APFS name");
                take({name_in(key, text_at, length), record.file_id,
                      static_cast<unsigned>(record.flags & NameRecord::type_mask)});
                return true;
              });
}

void Volume::attributes(std::uint64_t id, const std::function<void(Attribute&&)>& take) const {
  tree().from([&](ByteView key) { return is_before(key, id, RecordType::xattr); },
              [&](const Record& found) {
                if (!is_of(found.key, id, RecordType::xattr)) return false;
                LittleFields key(found.key, "APFS attribute"), value(found.value, "APFS attribute");
                Attribute out;
                auto length = structure_at<NamedKey>(key, 0).name_len;
                out.name = std::string(name_in(key, size_on_disk<NamedKey>, length));
                auto head = structure_at<AttributeRecord>(value, 0);
                ByteView data = value.bytes(size_on_disk<AttributeRecord>, head.xdata_len);
                if ((head.flags & AttributeRecord::streamed) != 0) {
                  auto stream = structure_in<AttributeStream>(data, "APFS attribute's stream");
                  out.stream_id = stream.xattr_obj_id;
                  out.size = stream.size;
                } else {
                  out.value.assign(data.begin(), data.end());
                  out.size = data.size();
                }
                take(std::move(out));
                return true;
              });
}

SourcePtr Volume::data(std::uint64_t stream_id, std::uint64_t size) const {
  constexpr std::uint64_t kLargest = std::uint64_t{1} << 60;
  if (size > kLargest) throw Malformed(fmt::format("APFS: a file of {} bytes is not possible", size));
  open();
  return std::make_shared<FileSource>(shared_from_this(), stream_id, size);
}

SourcePtr Volume::data(const Attribute& attribute) const {
  if (attribute.stream_id) return data(*attribute.stream_id, attribute.size);
  return make_memory_source(attribute.value);
}

void Volume::snapshots(const std::function<void(const Snapshot&)>& take) const {
  if (super_.num_snapshots == 0) return;
  if ((super_.snap_meta_tree_type & kStorageMask) != kPhysical)
    throw Unsupported("an APFS volume whose tree of snapshots is not in physical blocks");
  Tree tree(
      super_.snap_meta_tree_oid,
      [blocks = blocks_](std::uint64_t block) { return blocks.object(block, "APFS node of snapshots"); },
      blocks_.count());
  tree.from([](ByteView key) { return owner_of(key).type < RecordType::snap_metadata; },
            [&](const Record& found) {
              Owner own = owner_of(found.key);
              if (own.type != RecordType::snap_metadata) return true;
              auto record = structure_in<SnapshotRecord>(found.value, "APFS snapshot");
              LittleFields value(found.value, "APFS snapshot");
              take({own.id, record.create_time, record.sblock_oid,
                    std::string(name_in(value, size_on_disk<SnapshotRecord>, record.name_len))});
              return true;
            });
}

ContainerSuper read_super(ByteView raw) {
  if (raw.size() < ContainerSuper::size) throw CutShort("APFS superblock: the image is cut short");
  ContainerSuper super = read_structure<ContainerSuper>(raw.data());
  auto refuse = [&](auto member, std::string_view expected, const std::string& found) {
    refuse_field("APFS superblock", 0, member, expected, found);
  };
  if (super.magic != ContainerSuper::mark)
    refuse(&ContainerSuper::magic, "\"NXSB\"", fmt::format("{:#010x}", super.magic));
  if (!std::has_single_bit(super.block_size) || super.block_size < 4096 || super.block_size > 65536)
    refuse(&ContainerSuper::block_size, "a power of two from 4096 to 65536",
           fmt::format("{}", super.block_size));
  if (super.max_file_systems > ContainerSuper::most_volumes)
    refuse(&ContainerSuper::max_file_systems, "at most 100", fmt::format("{}", super.max_file_systems));
  if (super.block_count == 0 || super.block_count > UINT64_MAX / super.block_size)
    refuse(&ContainerSuper::block_count, "1 or more", fmt::format("{}", super.block_count));
  return super;
}

namespace {

/// Block 0 tells the size of all blocks.
Blocks blocks_of(SourcePtr image) {
  ContainerSuper first = read_super(read_up_to(*image, 0, 4096));
  return {std::move(image), first.block_size};
}

}  // namespace

Container::Container(SourcePtr image, const Report& report) : blocks_(blocks_of(std::move(image))) {
  find_newest(report);
  if ((super_.incompatible_features & ContainerSuper::fusion) != 0)
    throw Unsupported("an APFS container that is spread over two disks (Fusion)");
  ObjectMap objects(blocks_, super_.omap_oid);
  LittleFields f(super_block_, "APFS superblock");
  for (std::size_t i = 0; i < super_.max_file_systems; ++i) {
    std::uint64_t oid = f.u64(ContainerSuper::fs_oid_at + i * 8);
    if (oid == 0) continue;
    try {
      auto found = objects.find(oid, xid_);
      if (!found) throw Malformed(fmt::format("its object map does not know object {}", oid));
      VolumeSuper super = read_volume(blocks_, found->paddr);
      volumes_.push_back({super, ObjectMap(blocks_, super.omap_oid)});
    } catch (const Malformed& error) {  // costs no other volume
      report(Finding::Level::fault, fmt::format("volume {} cannot be read: {}", i + 1, error.what()));
    }
  }
}

/// The superblock in block 0 may be old: of those in the checkpoint area that fit their checksums the one
/// with the highest transaction is the newest.
void Container::find_newest(const Report& report) {
  std::string wrong;
  try {
    super_block_ = blocks_.object(0, "APFS superblock");
  } catch (const Malformed& error) {
    wrong = error.what();
    super_block_ = blocks_.raw(0, "APFS superblock");
  }
  super_ = read_super(super_block_);
  xid_ = wrong.empty() ? read_structure<ObjectHead>(super_block_.data()).xid : 0;
  constexpr std::uint32_t kScattered = 0x80000000, kMostBlocks = 1 << 20;
  if ((super_.xp_desc_blocks & kScattered) != 0)
    throw Unsupported("an APFS container whose checkpoint area is scattered");
  std::uint64_t base = super_.xp_desc_base;
  std::uint32_t count = std::min(super_.xp_desc_blocks, kMostBlocks);
  for (std::uint64_t block = base; block < base + count && block < blocks_.count(); ++block) {
    Bytes raw = blocks_.raw(block, "APFS checkpoint");
    auto head = read_structure<ObjectHead>(raw.data());
    if (type_of(head) != ObjectType::nx_superblock || (head.xid <= xid_ && wrong.empty())) continue;
    if (!sum_fits(object_sum(raw), head.cksum)) continue;  // one that was being written
    ContainerSuper super;
    try {
      super = read_super(raw);
    } catch (const Malformed&) {
      continue;
    }
    if (super.block_size != blocks_.size() || head.xid < xid_) continue;
    super_ = super;
    super_block_ = std::move(raw);
    xid_ = head.xid;
    if (!wrong.empty())
      report(
          Finding::Level::fault,
          fmt::format("the superblock is damaged ({}); the newest one of the checkpoints was used", wrong));
    wrong.clear();
  }
  if (!wrong.empty()) throw Malformed(wrong);
}

/// The space manager is an object that lives in memory: the checkpoint tells where it was put (reference,
/// "Space Manager").
std::optional<std::uint64_t> Container::free_blocks() const {
  try {
    for (std::uint32_t i = 0, all = std::min(super_.xp_desc_len, super_.xp_desc_blocks); i < all; ++i) {
      std::uint64_t block =
          super_.xp_desc_base + (std::uint64_t{super_.xp_desc_index} + i) % super_.xp_desc_blocks;
      Bytes raw = blocks_.object(block, "APFS checkpoint");
      if (type_of(read_structure<ObjectHead>(raw.data())) != ObjectType::checkpoint_map) continue;
      LittleFields f(raw, "APFS checkpoint");
      for (std::uint32_t m = 0, count = structure_at<CheckpointMap>(f, 0).count; m < count; ++m) {
        std::size_t at = size_on_disk<CheckpointMap> + m * size_on_disk<CheckpointRow>;
        auto row = structure_at<CheckpointRow>(f, at);
        if (row.oid != super_.spaceman_oid) continue;
        Bytes manager = blocks_.object(row.paddr, "APFS space manager");
        return structure_in<SpaceManager>(manager, "APFS space manager").free_count;
      }
    }
  } catch (const Malformed&) {  // a fact less
  }
  return std::nullopt;
}

std::shared_ptr<const Volume> Container::open(std::size_t index, const Snapshot* snapshot,
                                              Unlock unlock) const {
  const Known& known = volumes_.at(index);
  if (snapshot == nullptr)
    return std::make_shared<const Volume>(blocks_, known.super, known.objects, xid_, std::move(unlock));
  return std::make_shared<const Volume>(blocks_, read_volume(blocks_, snapshot->super_at), known.objects,
                                        snapshot->xid, std::move(unlock));
}

}  // namespace operculum::apfs
