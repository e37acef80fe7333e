#!/usr/bin/env bash
# Runs go test with these arguments, and says in the end what was skipped and
# why. Without the race detector that is said, too, unless RACE says that it is
# meant so.
set -uo pipefail
log=$(mktemp)
trap 'rm -f "$log"' EXIT
case " $* ${RACE:+-race }" in *" -race "*) ;; *) echo "test: there is no C compiler, so the race detector is left out" >&2 ;; esac
"${GO:-go}" test -v "$@" 2>&1 | tee "$log" | grep -vE '^ *(=== (RUN|PAUSE|CONT|NAME)|--- PASS:|PASS$)|^\?.*\[no test files\]$'
code=${PIPESTATUS[0]}
skipped=$(grep -cE '^ *--- SKIP:' "$log")
if [ "$skipped" -gt 0 ]; then
  echo "$skipped skipped:"
  grep -A1 -E '^ *--- SKIP:' "$log" | grep -vE '^--$' | paste -sd '\n' - | sed -E 's/^ *--- SKIP: ([^ ]+).*/  \1/; t; s/^ +[a-z_]+\.go:[0-9]+: /    /'
fi
exit "$code"
