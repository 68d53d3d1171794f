#include <fmt/format.h>

#include "base/readable_text.h"
#include "base/text.h"
#include "base/units.h"
#include "cli/confinement.h"
#include "cli/session.h"
#include "container/locator.h"
#include "container/open.h"
#include "report/hex_view.h"

namespace operculum::cli {
namespace {

constexpr std::uint64_t kHexOnTerminal =
    4096;                                   // bytes of a hex view on a terminal when no length was asked for
constexpr std::size_t kBlock = 256 * 1024;  // bytes
constexpr std::size_t kTextLimit = 64 << 20;  // bytes of text decoded for a terminal

struct ShowOptions {
  std::string target;
  bool hex = false;
  std::uint64_t from = 0;
  std::uint64_t length = UINT64_MAX;
};

class Show {
 public:
  Show(Session& session, const ShowOptions& options) : session_(session), options_(options) {}

  void run() {
    bool entered = options_.target.ends_with('/');
    Place place = resolve(options_.target, session_.context, entered ? Step::into : Step::no_more);
    if (!place.content) {
      throw Malformed(place.inside.empty() || !place.entry
                          ? "it is a folder; name one entry in it"
                          : "it has no data of its own, it is a link or a device");
    }
    bool a_part = options_.hex || options_.from > 0 || options_.length != UINT64_MAX;
    if (place.is_container() && !a_part) {
      if (auto text = place.layers.back().container->text()) return session_.data.write(Shown::lines(*text));
      throw Malformed(fmt::format(
          "it is a container ({}); name an entry in it, or see what there is with: operculum list {}; "
          "--hex shows its own bytes",
          place.layers.back().format->name, shell_word(options_.target)));
    }
    if (!a_part && session_.data.is_terminal()) {
      if (auto text = text_within(place.content)) {
        session_.data.write(Shown::lines(*text));
        return session_.say(Session::Tone::note, "this is its content as text; --hex shows its own bytes");
      }
    }
    StreamPtr stream = start(*place.content);
    if (options_.hex) return hex(*stream, options_.length);
    if (!session_.data.is_terminal()) return bytes(*stream);
    on_terminal(*stream);
  }

 private:
  /// The text of an entry that is a container with one, such as a device tree.
  std::optional<std::string> text_within(const ContentPtr& content) const {
    try {
      Opened inner = open_container({content, ""}, session_.context);
      return inner.container ? inner.container->text() : std::nullopt;
    } catch (const std::exception&) {
      return std::nullopt;  // then its bytes are shown
    }
  }

  StreamPtr start(const Content& content) const {
    StreamPtr stream;
    std::uint64_t there = 0;
    if (SourcePtr source = content.source(); source && options_.from > 0) {
      there = std::min(source->size(), options_.from);
      stream = make_source_stream(source, options_.from);
    } else {
      stream = content.stream();
      if (options_.from > 0) there = stream->skip(options_.from);
    }
    if (there < options_.from)
      throw Malformed(fmt::format("it has {} bytes, so there is nothing from {} on", grouped(there),
                                  grouped(options_.from)));
    return stream;
  }

  void bytes(Stream& stream) {
    Bytes block(kBlock);
    for (std::uint64_t left = options_.length; left > 0;) {
      std::size_t count =
          stream.read(ByteSpan(block).first(static_cast<std::size_t>(std::min<std::uint64_t>(left, kBlock))));
      if (count == 0) break;
      session_.data.write_bytes(as_text(ByteView(block).first(count)));
      left -= count;
    }
  }

  void hex(Stream& stream, std::uint64_t length) {
    Bytes block(kBlock);
    std::uint64_t at = options_.from;
    for (std::uint64_t left = length; left > 0;) {
      auto wanted = static_cast<std::size_t>(std::min<std::uint64_t>(left, kBlock));
      std::size_t count = read_fully(stream, ByteSpan(block).first(wanted));
      session_.data.write(hex_lines(ByteView(block).first(count), at));
      at += count;
      left -= count;
      if (count < wanted) break;
    }
  }

  void on_terminal(Stream& stream) {
    Bytes head(8192);
    head.resize(read_fully(stream, head));
    if (!looks_like_text(head)) {
      std::uint64_t shown = std::min<std::uint64_t>({head.size(), kHexOnTerminal, options_.length});
      session_.data.write(hex_lines(ByteView(head).first(static_cast<std::size_t>(shown)), options_.from));
      if (head.size() > shown && options_.length == UINT64_MAX) {
        session_.say(Session::Tone::note,
                     fmt::format("the first {} bytes are shown; --from, --length and --hex show others",
                                 grouped(shown)));
      }
      return;
    }
    Bytes rest = read_all(stream, kTextLimit);
    head.insert(head.end(), rest.begin(), rest.end());
    if (head.size() > options_.length) head.resize(static_cast<std::size_t>(options_.length));
    session_.data.write(Shown::lines(readable_text(head)));
  }

  Session& session_;
  const ShowOptions& options_;
};

}  // namespace

void add_show(CommandLine& program, Session& session) {
  Options command =
      program.command({"show",
                       "Print one entry: byte for byte into a pipe or file, readable on a terminal",
                       {"operculum show tidepool.skin/credits.txt",
                        "operculum show --hex --from 0x200 --length 64 exhibit-card.img"}});
  auto options = std::make_shared<ShowOptions>();
  command.argument("TARGET", options->target,
                   "A path that goes on into containers, to one entry; a slash behind it, or a terminal: the "
                   "text of a container that has one, such as the source of a device tree");
  command.flag("--hex", options->hex, "As a hex view");
  command.number("--from", options->from, "Begin at this offset in bytes (with 0x: hexadecimal)");
  command.number("--length", options->length, "Show this many bytes at most");
  command.run([&session, options] {
    prepare(session);
    Confinement(session).reads(options->target).begin();
    try {
      Show(session, *options).run();
    } catch (const std::exception& thrown) {
      Error error = as_error(thrown);
      session.data.flush();
      report_error(session, options->target, error);
    }
  });
}

}  // namespace operculum::cli
