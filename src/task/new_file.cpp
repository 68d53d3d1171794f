#include "task/new_file.h"

#include <fmt/format.h>
#include <sys/stat.h>

#include <cerrno>
#include <cstdlib>
#include <filesystem>
#include <memory>

#include "base/error.h"
#include "base/path_parts.h"
#include "base/text.h"
#include "container/limits.h"
#include "io/digest.h"
#include "task/room_needed.h"

namespace operculum {
namespace {

constexpr std::string_view kOriginalEnding = ".before";
constexpr std::size_t kBuffer = 1 << 20, kTextBuffer = 64 << 10;

/// A path as the folder that it lies in and its name there.
struct Spot {
  std::string folder, name;
};
Spot spot_of(const std::string& path) {
  return {folder_on_disk(path), std::string(name_part(path))};
}

/// Where a link leads: the file itself is replaced, not the link to it.
std::string real_path(const std::string& path) {
  std::unique_ptr<char, void (*)(void*)> real(realpath(path.c_str(), nullptr), std::free);
  struct stat status {};
  bool is_link = lstat(path.c_str(), &status) == 0 && S_ISLNK(status.st_mode);
  return is_link && real ? real.get() : path;
}

std::uint32_t mode_like(const std::string& file) {
  struct stat status {};
  if (!file.empty() && stat(file.c_str(), &status) == 0) return status.st_mode & 0777;
  mode_t mask = umask(0);
  umask(mask);
  return 0666 & ~mask;
}

void check_stop(const Progress& progress) {
  if (progress.stop) throw GuardTripped("interrupted");
}

WrittenFile write_with(const NewFile& file, const std::function<void(OutputFile&)>& fill) {
  Spot place = spot_of(file.in_place ? real_path(file.path) : file.path);
  OutputFolder folder(place.folder, OutputFolder::Must::be_there);
  auto taken = [&] {
    return IoError(fmt::format("cannot write \"{}\"; choose a new name", escape(file.path)), EEXIST);
  };
  if (!file.in_place && folder.exists(place.name)) throw taken();
  OutputFile out = folder.begin_file(place.name);
  fill(out);
  SourcePtr written = out.written();
  if (file.check) file.check(*written);
  WrittenFile result;
  result.size = written->size();
  if (file.digest) result.digest = sha256_of(*written);
  if (file.in_place) out.keep_replaced_as(place.name + std::string(kOriginalEnding));
  if (file.in_place) out.make_durable();  // else the original is there as it was
  FileMetadata metadata;
  metadata.mode = mode_like(file.like);
  auto name = out.commit(metadata, file.in_place ? Existing::replace : Existing::keep);
  if (!name) throw taken();
  auto in_folder = [&](const std::string& one) {
    return place.folder == "." ? one : place.folder == "/" ? "/" + one : place.folder + "/" + one;
  };
  result.path = in_folder(*name);
  if (!out.replaced().empty()) result.replaced = in_folder(out.replaced());
  return result;
}

}  // namespace

void take_back(const WrittenFile& written) {
  std::error_code none;
  if (written.replaced.empty()) {
    std::filesystem::remove(written.path, none);
  } else {
    std::filesystem::rename(written.replaced, written.path, none);
  }
}

void write_new_text(const std::string& path, const std::function<void(const TextSink&)>& fill) {
  write_with({.path = path}, [&](OutputFile& out) {
    std::string waiting;
    fill([&](std::string_view text) {
      waiting += text;
      if (waiting.size() < kTextBuffer) return;
      out.write(as_bytes(waiting));
      waiting.clear();
    });
    out.write(as_bytes(waiting));
  });
}

WrittenFile write_new_file(const Assembly& assembly, const NewFile& file, Progress& progress) {
  progress.total_bytes = assembly.size();
  std::uint64_t before = progress.bytes;
  try {
    return write_with(file, [&](OutputFile& out) {
      write_assembly(assembly, out, [&](std::uint64_t done) {
        check_stop(progress);
        progress.bytes = before + done;
      });
    });
  } catch (const CannotWrite& error) {
    throw with_room_needed(error, progress);
  }
}

WrittenFile write_new_stream(Stream& stream, const NewFile& file, Progress& progress) {
  return write_with(file, [&](OutputFile& out) {
    Bytes buffer(kBuffer);
    for (;;) {
      check_stop(progress);
      if (std::uint64_t hole = stream.skip_hole(); hole > 0) {
        out.write_hole(hole);
        continue;
      }
      std::size_t count = stream.read(buffer);
      if (count == 0) return;
      out.write(ByteView(buffer).first(count));
    }
  });
}

}  // namespace operculum
