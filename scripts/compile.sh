#!/usr/bin/env bash
# Runs a "go build -v", and says meanwhile how many packages are compiled: on a
# machine that has compiled none of them that takes minutes.
set -uo pipefail
todo=$("${GO:-go}" list -deps -f '{{if .Stale}}{{.ImportPath}}{{end}}' ./cmd/neighbour | wc -l)
[ "$todo" -le 30 ] || echo "build: compiling $todo packages; done once, that takes seconds from then on" >&2
said=$SECONDS n=0
"$@" 2> >(while IFS= read -r line; do
  case $line in
  *[!a-zA-Z0-9._/-]*) printf '%s\n' "$line" >&2 ;;
  *)
    n=$((n + 1))
    if [ "$todo" -gt 30 ] && [ $((SECONDS - said)) -ge 5 ]; then
      echo "build: $n of $todo packages, after $SECONDS s" >&2
      said=$SECONDS
    fi ;;
  esac
done)
code=$?
wait
exit $code
