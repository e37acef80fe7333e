#!/usr/bin/env bash
# Prints what each module that is linked into the program costs, as a table of
# Markdown: the size of its code and data in the file, and how long its packages
# take to initialise, of each start of the program.
#
# What a module is for stands in the table of CONTRIBUTING.md, and is taken over.
set -euo pipefail
cd "$(dirname "$0")/.."
dir=$(mktemp -d)
trap 'rm -rf "$dir"' EXIT
go=${GO:-go}
"$go" build -o "$dir/full" ./cmd/neighbour
"$go" build -ldflags='-s -w' -o "$dir/neighbour" ./cmd/neighbour
"$go" version -m "$dir/full" | awk '$1 == "dep" { print $2 }' >"$dir/modules"
"$go" mod edit -json | awk -F'"' '/"Path"/ { p = $4 } /"Indirect": true/ { print p }' >"$dir/indirect"
for _ in $(seq 15); do
  GODEBUG=inittrace=1 "$dir/neighbour" version 2>&1 >/dev/null | awk '/^init / { print $2, $5 }'
done >"$dir/inits"
# What is only zeros at first takes no room in the file.
"$go" tool nm -size "$dir/full" | awk '
  { at[NR] = sprintf("%16s", $1); size[NR] = $2; name[NR] = $4 }
  $4 ~ /^runtime\.e?(noptr)?bss$/ { edge[$4] = at[NR] }
  END { for (i = 1; i <= NR; i++) if (name[i] !~ /^(runtime\.|go:)/ && !(at[i] >= edge["runtime.bss"] && at[i] < edge["runtime.ebss"]) && !(at[i] >= edge["runtime.noptrbss"] && at[i] < edge["runtime.enoptrbss"])) print size[i], name[i] }' >"$dir/symbols"
awk -F' *\\| *' '/^\| `/ { gsub(/`/, "", $2); print $2 "\t" $3 }' CONTRIBUTING.md >"$dir/purposes"
awk -v file="$(stat -c %s "$dir/neighbour")" -v purposes="$dir/purposes" -v symbols="$dir/symbols" -v inits="$dir/inits" -v indirect="$dir/indirect" '
function module(package, m, best) { # the longest that is a prefix
  best = ""
  for (m in modules) if (index(package, m) == 1 && length(m) > length(best)) best = m
  return best
}
{ modules[$1] = 1 }
END {
  while ((getline line < indirect) > 0) through[line] = 1
  while ((getline line < purposes) > 0) { split(line, f, "\t"); why[f[1]] = f[2] }
  while ((getline line < symbols) > 0) {
    n = index(line, " "); size = substr(line, 1, n - 1); name = substr(line, n + 1)
    sub(/^type:[^a-z]*(eq\.)?/, "", name)
    package = name; sub(/\.[^\/]*$/, "", package)
    if (!(package in of)) of[package] = module(package)
    bytes[of[package]] += size
  }
  while ((getline line < inits) > 0) { split(line, f, " "); took[f[1], ++rounds[f[1]]] = f[2] }
  for (p in rounds) {
    n = rounds[p]
    for (i = 1; i <= n; i++) for (j = i + 1; j <= n; j++) if (took[p, j] + 0 < took[p, i] + 0) { t = took[p, i]; took[p, i] = took[p, j]; took[p, j] = t }
    init[module(p)] += took[p, int((n + 1) / 2)]
  }
  printf "The file, stripped, has %.1f MB.\n\n| module | for | MB | ms at each start |\n|---|---|---|---|\n", file / 1e6
  for (m in modules) if (bytes[m] > 0 && (!(m in through) || bytes[m] >= 5e4 || init[m] >= 0.05)) printf "%d\t| `%s` | %s | %.2f | %.2f |\n", bytes[m], m, (m in why) ? why[m] : "?", bytes[m] / 1e6, init[m] | "sort -rn | cut -f 2-"
}' "$dir/modules"
