#!/usr/bin/env bash
# Installs the clients from npm that the tests use, as their lock file says,
# where that is possible. Without npm or a network it says so, and what needs
# them is skipped, unless CI=true.
set -euo pipefail
cd "$(dirname "$0")/../internal/e2e/clients"
[ node_modules/.package-lock.json -nt package-lock.json ] && exit 0
echo "clients: installing what the lock file names" >&2
npm ci --ignore-scripts --no-audit --no-fund --loglevel=error >&2 && exit 0
echo "clients: npm couldn't install them; the tests that need them will be skipped" >&2
[ "${CI:-}" = true ] && exit 1
exit 0
