#include "format/stream/member_writer.h"

#include <algorithm>

#include "base/error.h"
#include "codec/codec.h"
#include "container/probe.h"
#include "io/compare.h"

namespace operculum {

MemberWriter::MemberWriter(SourcePtr packed, const SingleStream& stream, std::string path,
                           const Writing& writing)
    : packed_(std::move(packed)),
      codec_(stream.codec),
      framing_of_(stream.framing_of),
      path_(std::move(path)),
      writing_(writing),
      members_(stream.members) {
  if (!members_.empty()) {
    keep_sensible(members_.back().plain_at + members_.back().plain_size);
  } else if (stream.size) {
    members_ = {{0, packed_->size(), 0, *stream.size}};
  } else {
    find_members();
  }
  tail_at_ = members_.back().end();
}

void MemberWriter::find_members() {
  CodecOptions options;
  options.member_ended = [&](std::uint64_t packed_end, std::uint64_t plain_end) {
    const Member last = members_.empty() ? Member{} : members_.back();
    Member next{.at = last.end(), .plain_at = last.plain_at + last.plain_size};
    next.size = packed_end - next.at;
    next.plain_size = plain_end - next.plain_at;
    members_.push_back(next);
  };
  keep_sensible(open_decoder(codec_, make_source_stream(packed_), options)->skip(UINT64_MAX));
}

/// Frames that hold nothing tell of the others, where they are, or are a mark at the end.
void MemberWriter::keep_sensible(std::uint64_t plain_size) {
  bool empty_between = false, empty_last = members_.size() > 1 && members_.back().plain_size == 0;
  for (std::size_t i = 0; i + 1 < members_.size(); ++i) empty_between |= members_[i].plain_size == 0;
  if (members_.empty() || empty_between || (empty_last && framing_of_ == nullptr)) {
    if (members_.size() > 1 && writing_.note)
      writing_.note(path_, "its frames become one, and those without data are left out");
    members_ = {{0, packed_->size(), 0, plain_size}};
  } else if (empty_last) {
    members_.pop_back();
  }
}

ContentPtr MemberWriter::plain_of(const Member& member) const {
  return make_content([codec = codec_, bytes = make_slice(packed_, member.at, member.size)] {
    return open_decoder(codec, make_source_stream(bytes));
  });
}

const PackSettings& MemberWriter::settings_of(const Member& member, const Framing& framing) {
  if (settings_) return *settings_;
  std::uint64_t around = framing.head_size + framing.trailer_size;
  if (around > member.size) throw CutShort("the file ends within its header");
  SourcePtr between = make_slice(packed_, member.at + framing.head_size, member.size - around);
  settings_ = settings_like(framing.codec, between, *plain_of(member), member.plain_size, path_, writing_);
  return *settings_;
}

void MemberWriter::write_member(const Member& like, const Content& plain, std::uint64_t size, Assembly& out) {
  Framing framing{0, codec_};
  if (framing_of_ != nullptr)
    framing = framing_of_(read_up_to(*packed_, like.at, std::min<std::uint64_t>(like.size, Probe::kReach)));
  PackSettings settings = settings_of(like, framing);
  settings.plain_size = size;
  PackedContent made = pack_content(plain, framing.codec, settings, writing_.spool);
  Bytes head = read_exactly(*packed_, like.at, framing.head_size, "header of the packed data");
  if (framing.set_size != nullptr)
    framing.set_size(head, framing.head_size + made.bytes->size() + framing.trailer_size);
  out.add(std::move(head));
  out.add(made.bytes);
  if (framing.trailer != nullptr) out.add(framing.trailer(made));
}

void MemberWriter::write(const Content& content, std::uint64_t size, Assembly& out) {
  if (members_.size() == 1) {
    write_member(members_.front(), content, size, out);
  } else {
    write_parts(random_access(content, writing_.spool), out);
  }
  out.add(packed_, tail_at_, packed_->size() - tail_at_);
}

void MemberWriter::write_parts(const SourcePtr& plain, Assembly& out) {
  const std::uint64_t size = plain->size();
  const Member& last = members_.back();
  // Cut into pieces of one size, it is cut on by that size.
  const std::uint64_t unit = members_.front().plain_size;
  const bool regular =
      last.plain_size <= unit && std::all_of(members_.begin(), members_.end() - 1,
                                             [&](const Member& one) { return one.plain_size == unit; });
  std::uint64_t at = 0, behind = members_.front().at;
  for (const Member& member : members_) {
    if (at == size && &member != &members_.front()) break;
    out.add(packed_, behind, member.at - behind);  // what fills up the member before
    behind = member.end();
    std::uint64_t room = &member != &last ? member.plain_size : regular ? unit : UINT64_MAX;
    SourcePtr part = make_slice(plain, at, std::min(room, size - at));
    bool same = part->size() == member.plain_size &&
                same_bytes(*plain_of(member)->stream(), *make_source_stream(part));
    if (same) {
      out.add(packed_, member.at, member.size);
    } else {
      write_member(member, *make_content(part), part->size(), out);
    }
    at += part->size();
  }
  while (at < size) {
    SourcePtr part = make_slice(plain, at, std::min(unit, size - at));
    write_member(last, *make_content(part), part->size(), out);
    at += part->size();
  }
}

}  // namespace operculum
