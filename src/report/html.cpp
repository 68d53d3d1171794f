#include "report/html.h"

#include <fmt/format.h>

#include "base/text.h"

namespace operculum {
namespace {

constexpr std::string_view kStyle = R"css(
:root { color-scheme: light dark; --ink: #1d2b33; --soft: #5b6b73; --line: #d5dde0; --paper: #fcfbf7; --mark: #0b6e75;
  --alarm: #a23b1e; --box: #f1f4f2 }
@media (prefers-color-scheme: dark) { :root { --ink: #e4e9ea; --soft: #9fb0b7; --line: #35444b; --paper: #141b1f;
  --mark: #6fc3c9; --alarm: #f0936f; --box: #1c262b } }
* { box-sizing: border-box }
body { margin: 0 auto; max-width: 68rem; padding: 1.5rem; background: var(--paper); color: var(--ink);
  font: 16px/1.5 system-ui, sans-serif }
h1 { font-size: 1.5rem; margin: 0 0 .25rem } h2 { font-size: 1.15rem; margin: 2rem 0 .5rem; color: var(--mark) }
h1, td, li, code { overflow-wrap: anywhere }
p.lead { margin: 0; color: var(--soft) }
.sums { display: flex; flex-wrap: wrap; gap: .75rem; margin: 1rem 0 }
.sums div { background: var(--box); border: 1px solid var(--line); border-radius: .5rem; padding: .5rem .9rem; min-width: 8rem }
.sums b { display: block; font-size: 1.25rem } .sums span { color: var(--soft); font-size: .85rem }
.sums .alarm b { color: var(--alarm) }
table { border-collapse: collapse; width: 100% } th { text-align: left; font-weight: 600; color: var(--soft); font-size: .85rem }
td, th { padding: .25rem .75rem .25rem 0; border-bottom: 1px solid var(--line); vertical-align: top }
td.number, th.number { text-align: right; font-variant-numeric: tabular-nums; white-space: nowrap }
td.name { white-space: nowrap; color: var(--soft); width: 9rem }
code, pre, .path { font-family: ui-monospace, monospace; font-size: .9rem }
pre { background: var(--box); border: 1px solid var(--line); border-radius: .5rem; padding: .75rem; overflow-x: auto; margin: .5rem 0 }
details { margin: .4rem 0 } summary { cursor: pointer }
summary .soft, .soft { color: var(--soft) } .kind { color: var(--alarm); font-weight: 600 }
ul { padding-left: 1.2rem }
.legend span { margin-right: 1rem; white-space: nowrap } .legend i { display: inline-block; width: .8rem; height: .8rem; margin-right: .3rem;
  border-radius: .15rem; vertical-align: -.05rem }
)css";

}  // namespace

std::string html(std::string_view untrusted) {
  std::string out;
  for (char c : printable(untrusted)) {
    switch (c) {
      case '&':
        out += "&amp;";
        break;
      case '<':
        out += "&lt;";
        break;
      case '>':
        out += "&gt;";
        break;
      case '"':
        out += "&quot;";
        break;
      default:
        out += c;
    }
  }
  return out;
}

std::string html_lines(std::string_view untrusted) {
  std::string out;
  for (std::string_view line : split(trim(untrusted), '\n')) out += html(line) + "\n";
  return out;
}

std::string page_head(std::string_view title) {
  return fmt::format(
      "<!doctype html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n<meta name=\"viewport\" "
      "content=\"width=device-width, "
      "initial-scale=1\">\n<title>{}</title>\n<style>{}</style>\n</head>\n<body>\n",
      html(title), kStyle);
}

}  // namespace operculum
