#include "codec/member_stream.h"

#include <fmt/format.h>

#include "base/error.h"

namespace operculum {
std::size_t MemberStream::read(ByteSpan out) {
  for (;;) {
    if (!in_member_) {
      if (members_ > 0) {
        if (input_.view().empty()) return 0;
        if (!more_members(input_)) {
          if (!input_.view().empty() && note_) {
            note_(fmt::format(
                "bytes that belong to no packed data follow at packed offset {}; they were ignored",
                input_.consumed()));
          }
          note_ = nullptr;
          return 0;
        }
      }
      begin_member();
      in_member_ = true;
      ++members_;
    }
    Step step = decode(input_.view(), out);
    input_.consume(step.consumed);
    in_member_ = !step.member_ended;
    plain_ += step.produced;
    if (step.member_ended && member_ended_) member_ended_(input_.consumed(), plain_);
    if (step.produced > 0) return step.produced;
  }
}

void MemberStream::fail(std::string_view codec, std::string_view reason, std::size_t taken) const {
  throw Malformed(fmt::format("{} data near packed offset {}: {}", codec, input_.consumed() + taken, reason));
}

void MemberStream::fail_cut(std::string_view codec) const {
  throw CutShort(fmt::format("{} data: it ends too early, at packed offset {}; it is cut short", codec,
                             input_.consumed()));
}

}  // namespace operculum
