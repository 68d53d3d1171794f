// What servers answer.
#include "base/error.h"
#include "base/text.h"
#include "fuzz/target.h"
#include "io/http_source.h"
#include "support/http_stand_in.h"

namespace operculum::fuzz {
namespace {

constexpr std::string_view kNextAnswer = "\n====\n";

/// The answers to the requests to come, as a server sends them, with a line of four "=" between them.
void answer_requests(ByteView bytes) {
  std::string_view text = as_text(bytes);
  if (to_lower(text).find("location") != std::string::npos) return;  // nobody else is to be asked
  static test::HttpStandIn server(test::HttpStandIn::Manner::plain);
  std::vector<Bytes> answers;
  for (std::size_t at = 0; at <= text.size();) {
    std::size_t end = std::min(text.find(kNextAnswer, at), text.size());
    answers.emplace_back(bytes.begin() + static_cast<std::ptrdiff_t>(at),
                         bytes.begin() + static_cast<std::ptrdiff_t>(end));
    at = end + kNextAnswer.size();
  }
  server.answer_with(std::move(answers));
  HttpOptions options{.stall_seconds = 1, .tries = 1};
  options.credentials = [](const std::string&, const auto& works) -> std::optional<std::string> {
    return works("gauge:low water") ? std::optional<std::string>("gauge:low water") : std::nullopt;
  };
  try {
    FromServer file = open_url_once(server.url("/pack.bin"), options);
    Bytes block(10'000);
    if (!file.source) {
      while (file.stream->read(block) > 0) continue;
      return;
    }
    for (std::uint64_t at : {std::uint64_t{0}, file.source->size() / 2, std::uint64_t{70'000}})
      file.source->read_at(at, block);
  } catch (const Error&) {
    return;
  }
}

}  // namespace

std::vector<Target> server_targets() {
  return {{"http", answer_requests}};
}

}  // namespace operculum::fuzz
