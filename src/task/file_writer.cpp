#include "task/file_writer.h"

#include <fmt/format.h>

#include <algorithm>
#include <utility>

#include "base/checksum.h"
#include "base/text.h"

namespace operculum {
namespace {
constexpr std::size_t kBlock = 256 * 1024;  // bytes of a large file at a time
}

void FileWriter::write(FileJob& job, Stream& stream) {
  thread_local Bytes buffer;
  std::size_t size = request_.keep_damaged ? 0 : fill(stream, job.event.size, buffer);
  ByteView first = ByteView(buffer).first(size);
  if (!request_.keep_damaged && size < kSmallFile) {
    write_whole(job, first);
  } else {
    write_rest(job, first, stream);
  }
}

FileWriter::First FileWriter::read_first(Stream& stream, std::uint64_t expected) const {
  if (request_.keep_damaged) return {};  // then nothing that could be read may be lost with what could not
  First first;
  first.bytes.resize(fill(stream, expected, first.bytes));
  first.complete = first.bytes.size() < kSmallFile;
  return first;
}

/// Reads up to kSmallFile bytes into the buffer, which grows as needed; fewer mean that the stream ended.
std::size_t FileWriter::fill(Stream& stream, std::uint64_t expected, Bytes& buffer) const {
  std::size_t wanted = static_cast<std::size_t>(std::min<std::uint64_t>(expected, kSmallFile - 1)) + 1;
  if (buffer.size() < wanted) buffer.resize(wanted);
  std::size_t done = 0;
  for (;;) {
    std::size_t room = std::min(buffer.size(), kSmallFile);
    done += read_fully(stream, ByteSpan(buffer).first(room).subspan(done));
    if (done < room || room == kSmallFile) return done;
    buffer.resize(room * 2);
  }
}

void FileWriter::write_whole(FileJob& job, ByteView bytes) {
  count({0, bytes});
  OutputFile out = begin(job);
  put(out, job, bytes);
  job.event.size = bytes.size();
  if (request_.digests) job.event.sha256 = sha256_hex(bytes);
  commit(out, job);
}

void FileWriter::write_rest(FileJob& job, ByteView first, Stream& rest) {
  Bytes block(kBlock);
  write_runs(job, [&]() -> ReadAheadStream::Run {
    if (!first.empty()) return {0, std::exchange(first, {})};
    std::uint64_t hole = rest.skip_hole();
    return {hole, ByteView(block).first(rest.read(block))};
  });
}

void FileWriter::write_large(FileJob& job, StreamPtr stream) {
  auto ahead = make_read_ahead(std::move(stream));
  write_runs(job, [&] { return ahead->next_run(); });
}

void FileWriter::write_runs(FileJob& job, const std::function<ReadAheadStream::Run()>& next) {
  OutputFile out = begin(job);
  std::unique_ptr<Sha256> digest = request_.digests ? std::make_unique<Sha256>() : nullptr;
  std::uint64_t done = 0;
  try {
    for (ReadAheadStream::Run run = next(); !run.ended(); run = next()) {
      count(run);
      if (digest) {
        digest->add_zeros(run.hole);
        digest->add(run.bytes);
      }
      out.write_hole(run.hole);
      put(out, job, run.bytes);
      done += run.hole + run.bytes.size();
    }
  } catch (const Malformed&) {
    if (!request_.keep_damaged) throw;
    out.add_ending(".damaged");
    if (auto path = out.commit(job.metadata, Existing::rename)) {
      job.event.message = fmt::format("what could be read is in {}", escape(*path));
    }
    throw;
  }
  job.event.size = done;
  if (digest) job.event.sha256 = digest->finish_hex();
  commit(out, job);
}

OutputFile FileWriter::begin(const FileJob& job) const {
  OutputFile out = folder_.begin_file(job.event.output);
  if (request_.keep_replaced && !job.ours) out.keep_replaced();
  return out;
}

void FileWriter::put(OutputFile& out, const FileJob& job, ByteView bytes) const {
  if (job.sparse) {
    out.write_sparse(bytes);
  } else {
    out.write(bytes);
  }
}

void FileWriter::commit(OutputFile& out, FileJob& job) const {
  auto path = out.commit(job.metadata, job.existing);
  job.event.replaced = out.replaced();
  if (!out.complaint().empty()) {
    if (!job.event.message.empty()) job.event.message += ", ";
    job.event.message += out.complaint();
  }
  if (!path) {
    job.event.kind = UnpackEvent::Kind::kept;
    job.event.message = "something is there already";
  } else if (*path != job.event.output) {
    if (!job.event.message.empty()) job.event.message += ", ";
    job.event.message += "something was there already";
    job.event.output = *path;
  }
}

void FileWriter::count(const ReadAheadStream::Run& run) {
  meter_.add(run.bytes.size());  // a hole takes no space
  progress_.bytes += run.hole + run.bytes.size();
}

}  // namespace operculum
