"""Sums what gcov counted, per folder of src/. Called by coverage.sh."""
import collections
import json
import os
import subprocess
import sys

build = os.path.abspath(sys.argv[1])
root = os.getcwd()
lines = collections.defaultdict(dict)  # by file: line number -> executed
branches = collections.defaultdict(dict)  # by file: (line, number) -> taken
counted = [os.path.join(folder, name) for folder, _, names in os.walk(build) for name in names if name.endswith(".gcda")]
for start in range(0, len(counted), 40):
    out = subprocess.run(["gcov", "--json-format", "--stdout", "--branch-probabilities", *counted[start:start + 40]], cwd=build,
                         capture_output=True).stdout
    for text in out.splitlines():
        counts = json.loads(text)
        for file in counts["files"]:
            name = os.path.relpath(os.path.join(counts["current_working_directory"], file["file"]), root)
            if not name.startswith("src/"):
                continue
            for line in file["lines"]:
                number = line["line_number"]
                lines[name][number] = lines[name].get(number, False) or line["count"] > 0
                # Branches to what cleans up after something thrown are the compiler's, not ours.
                for i, branch in enumerate(b for b in line["branches"] if not b["throw"]):
                    key = (number, i)
                    branches[name][key] = branches[name].get(key, False) or branch["count"] > 0
folders = collections.defaultdict(lambda: [0, 0, 0, 0])
for table, at in ((lines, 0), (branches, 2)):
    for name, points in table.items():
        folder = os.path.dirname(name)
        folders[folder][at] += sum(points.values())
        folders[folder][at + 1] += len(points)
print("| folder | lines | branches |\n|---|---|---|")
for folder in sorted(folders):
    hit, all_lines, taken, all_branches = folders[folder]
    share = lambda part, whole: f"{100 * part / whole:.1f} %" if whole else "-"
    print(f"| `{folder}` | {share(hit, all_lines)} of {all_lines} | {share(taken, all_branches)} of {all_branches} |")
