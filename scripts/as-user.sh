#!/usr/bin/env bash
# Runs a command in a copy of this checkout as an ordinary user, whom root
# makes for it; who isn't root runs it as it is.
set -euo pipefail
cd "$(dirname "$0")/.."
[ "$(id -u)" = 0 ] || exec "$@"
user=neighbour-test
id $user >/dev/null 2>&1 || useradd --system --create-home --shell /bin/bash $user
home=$(getent passwd $user | cut -d: -f6)
copy=$(mktemp -d "$home/checkout.XXXXXX")
trap 'rm -rf "$copy"' EXIT
git ls-files -z --cached --others --exclude-standard | tar --null --files-from=- --ignore-failed-read -cf - 2>/dev/null | tar -xf - -C "$copy"
# What is installed from npm and the modules come along, since this user's caches aren't another's to
# read. The modules lie beside the checkout, as they do for everybody.
[ ! -d internal/e2e/clients/node_modules ] || cp -a internal/e2e/clients/node_modules "$copy/internal/e2e/clients"
"${GO:-go}" mod download
modules=$copy.modules
trap 'rm -rf "$copy" "$modules"' EXIT
cp -a "$("${GO:-go}" env GOMODCACHE)" "$modules"
# So does what is built already, which saves CI minutes; with -trimpath it is the
# same wherever it was built. A developer's own cache may be large.
cache=$home/.cache/go-build
if [ -n "${CI:-}" ]; then
  cache=$copy.cache
  trap 'rm -rf "$copy" "$modules" "$cache"' EXIT
  cp -a "$("${GO:-go}" env GOCACHE)" "$cache"
fi
install -d -o $user "$(dirname "$cache")" "$cache"
chown -R $user: "$copy" "$modules" "$cache"
go=$(dirname "$(command -v "${GO:-go}")")
cd "$copy"
as_user() {
  runuser -u $user -- env -i PATH="$go:/usr/local/bin:/usr/bin:/bin" HOME="$home" LANG="${LANG:-C.UTF-8}" CI="${CI:-}" \
    GOTOOLCHAIN=local GOCACHE="$cache" GOMODCACHE="$modules" GOFLAGS="-trimpath -buildvcs=false" "$@"
}
# The examples build their programs when they start, which is not to take long.
as_user go build ./examples/...
as_user "$@"
