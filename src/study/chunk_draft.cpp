#include "study/chunk_draft.h"

#include <fmt/format.h>

#include <algorithm>

#include "study/draft_text.h"

namespace operculum::study {
namespace {

std::string tags_of(const std::vector<std::string>& tags) {
  std::string all;
  for (std::string tag : tags) {
    tag.resize(tag.find_last_not_of(' ') + 1);
    all += fmt::format("{}\"{}\"", all.empty() ? "" : ", ", tag);
  }
  return "{" + all + "}";
}

}  // namespace

std::string draft_chunks(const Hypothesis& found, const Subject& subject, std::size_t same) {
  const Chunks& form = *found.chunks;
  DraftText out;
  out.title(subject, form.size.big);
  if (form.begin > 0) {
    Bytes head = subject.read(0, std::min<std::uint64_t>({form.begin, kMostMagic, same}));
    std::size_t magic = magic_of(head);
    out.line("record Head {");
    if (magic > 0) out.magic(ByteView(head).first(magic));
    out.gap(magic, form.begin);
    out.line("}");
  }
  std::string size = type_of(form.size, form.size.big);
  out.line("record Chunk {");
  if (form.size_first) out.line("  size " + size, found.column(Role::size)->why);
  out.line("  tag  text[4] padded \" \"");
  if (!form.size_first) out.line("  size " + size, found.column(Role::size)->why);
  out.line(form.bias == 0 ? "  within size {" : fmt::format("  within size - {} {{", form.bias));
  const char* when = "    when";
  if (!form.groups.empty()) {
    out.line(fmt::format("    when tag in {} {{", tags_of(form.groups)));
    out.line("      parts Chunk[] to end", "they hold nothing else");
    when = "    } else when";
  }
  if (!form.kinds.empty()) {
    out.line(fmt::format("{} tag in {} {{", when, tags_of(form.kinds)));
    out.line("      kind  text[4] padded \" \"");
    out.line("      parts Chunk[] to end", "they hold nothing else");
  }
  out.line("    } else {");
  out.line("      body  bytes to end");
  out.line("    }");
  out.line("  }");
  if (form.align > 1) out.line(fmt::format("  align {}", form.align));
  out.line("}");
  out.line("");
  if (form.begin > 0) out.line("head  = Head at 0");
  out.line(fmt::format("items = Chunk[] to end at {}", form.begin));
  out.line("");
  out.line("entry for x number n in tree(c in items by c.parts else nothing) where exists(x.body) {");
  out.line("  let tags = trail(x.tag, \"/\")");
  out.line("  path = \"{tags}-{n:04}{ending(x.body)}\"");
  out.line("  data = x.body");
  out.line("}");
  return out.take();
}

}  // namespace operculum::study
