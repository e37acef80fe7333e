#!/usr/bin/env bash
# What a new user does in the first hour, by the README's words: build, demo,
# install, a project of one's own from init to its page, and uninstall. Fails
# at the first thing that is not as it says there, and leaves nothing.
set -euo pipefail
cd "$(dirname "$0")/.."
work=$(mktemp -d)
# What is compiled and loaded already comes along; nothing else of this user's does.
GOCACHE=$(go env GOCACHE) GOMODCACHE=$(go env GOMODCACHE)
export GOCACHE GOMODCACHE HOME=$work/home TMPDIR=$work/tmp
mkdir -p "$HOME" "$TMPDIR"
unset XDG_STATE_HOME XDG_CONFIG_HOME XDG_CACHE_HOME XDG_RUNTIME_DIR CI
program=$PWD/bin/neighbour
project=$work/src/shed
fail() { echo "first hour: $*" >&2; exit 1; }
end() {
  "$program" -C "$project" stop >/dev/null 2>&1 || true
  "$program" rest --yes >/dev/null 2>&1 || true
  rm -rf "$work"
}
trap end EXIT

make build
said=$(bin/neighbour demo 2>&1) || fail "the demo: $said"
stop=$(sed -n 's/.*stop it with: //p' <<<"$said")
[ -n "$stop" ] || fail "the demo does not say how it is stopped: $said"
eval "$stop" >/dev/null || fail "what the demo says last does not stop it: $stop"

make -s install PREFIX="$work/local"
PATH=$work/local/bin:$PATH
[ "$(command -v neighbour)" = "$work/local/bin/neighbour" ] || fail "it is not installed"

mkdir -p "$project"
cat >"$project/server.js" <<'JS'
const port = process.env.PORT || 4107
require('http').createServer((q, r) => r.end('hello from the shed')).listen(port)
JS
echo '{ "name": "shed", "scripts": { "start": "node server.js" } }' >"$project/package.json"
cd "$project"
neighbour init --yes >/dev/null || fail "init"
neighbour check >/dev/null || fail "check: $(neighbour check)"
neighbour start 2>/dev/null || fail "start: $(neighbour start 2>&1)"
page=$(curl -fs "$(neighbour open --print shed)" 2>/dev/null || node -e "fetch(process.argv[1]).then(async (r) => console.log(await r.text()))" "$(neighbour status --json | sed -n 's/.*"url": "\(http:[^"]*\)".*/\1/p' | head -1)")
[ "$page" = "hello from the shed" ] || fail "the page: $page"
neighbour stop >/dev/null
neighbour purge --yes >/dev/null || fail "purge"
[ ! -e .neighbour ] || fail "purge leaves .neighbour"
neighbour purge --all --yes >/dev/null || fail "purge --all"
cd - >/dev/null
make -s uninstall PREFIX="$work/local"
left=$(find "$work/local" -type f)
[ -z "$left" ] || fail "uninstall leaves $left"
left=$(find "$HOME" -path '*neighbour*' -type f)
[ -z "$left" ] || fail "purge --all leaves $left"
echo "first hour: all as the README says"
