"""Sums what llvm-cov exported, per folder of src/. Called by coverage.sh."""
import collections
import os
import re
import sys

root = os.getcwd()
lines = collections.defaultdict(dict)  # by file: line number -> reached
branches = collections.defaultdict(dict)  # by file: where -> taken
with open(sys.argv[1]) as exported:
    for record in exported:
        kind, _, rest = record.rstrip().partition(":")
        if kind == "SF":
            name = os.path.relpath(rest, root)
        elif kind == "DA":
            number, count = rest.split(",")[:2]
            lines[name][int(number)] = lines[name].get(int(number), False) or int(count) > 0
        elif kind == "BRDA":
            where, count = rest.rsplit(",", 1)
            branches[name][where] = branches[name].get(where, False) or count not in ("-", "0")

refuses = re.compile(r"\b(throw (Malformed|Unsupported|LimitExceeded|NeedsKey|IoError)\b|refuse\(|fail\w*\()")
folders = collections.defaultdict(lambda: [0] * 6)
missed = []
for table, at in ((lines, 0), (branches, 2)):
    for name, points in table.items():
        folder = folders[os.path.dirname(name)]
        folder[at] += sum(points.values())
        folder[at + 1] += len(points)
for name, reached in sorted(lines.items()):
    for number, text in enumerate(open(name), 1):
        if number not in reached or not refuses.search(text) or text.lstrip().startswith(("//", "[[noreturn]]", "template")):
            continue
        folders[os.path.dirname(name)][4] += reached[number]
        folders[os.path.dirname(name)][5] += 1
        if not reached[number]:
            missed.append(f"{name}:{number}: {text.strip()}")


def share(part, whole):
    return f"{100 * part / whole:.1f} % of {whole:,}" if whole else "-"


print("| folder | lines | branches | refusals |\n|---|---|---|---|")
total = [sum(one[i] for one in folders.values()) for i in range(6)]
for folder, sums in [*sorted(folders.items()), ("all", total)]:
    print(f"| `{folder}` | {share(*sums[0:2])} | {share(*sums[2:4])} | {share(*sums[4:6])} |")
if "--refusals" in sys.argv[2:]:
    print(*missed, sep="\n")
