#!/usr/bin/env bash
# Runs go test with these arguments and reports, line by line, what passed,
# what failed and why, what was slow, and what was skipped and why.
set -uo pipefail
cd "$(dirname "$0")/.."
reporter=$(mktemp -d)
trap 'rm -rf "$reporter"' EXIT
"${GO:-go}" build -o "$reporter/testreport" ./internal/testreport || exit
# Without tables for debuggers, which take half of the time of linking.
"${GO:-go}" test -ldflags='-s -w' -json "$@" 2>&1 | "$reporter/testreport"
