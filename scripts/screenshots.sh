#!/usr/bin/env bash
# Takes new pictures of each main view, and drawings, from the demo data:
# docs/screenshots, docs/drawings.
# Each is bin/neighbour in a real terminal window of its own X server.
set -euo pipefail
cd "$(dirname "$0")/.."
out=$PWD/docs/screenshots
mkdir -p "$out"
work=$(mktemp -d)
cp bin/neighbour "$work/neighbour" # no folder of this machine is to be seen
binary=$work/neighbour
export TMPDIR=$work XDG_STATE_HOME=$work/state
quiet=$work/neighbour-demo-$(id -u)/toolshed
trouble=$work/neighbour-demo-$(id -u)-trouble/toolshed
held=$work/held/toolshed
pids=()
cleanup() {
  for d in "$quiet" "$trouble" "$held" "$work"/src/*; do [ -d "$d" ] && "$binary" -C "$d" stop >/dev/null 2>&1 || true; done
  tmux -S "$work/tmux" kill-server 2>/dev/null || true
  [ ${#pids[@]} -eq 0 ] || kill "${pids[@]}" 2>/dev/null || true
  rm -rf "$work"
}
trap cleanup EXIT

display=90
while [ -e /tmp/.X$display-lock ]; do display=$((display + 1)); done
Xvfb :$display -screen 0 1280x800x24 -nolisten tcp >/dev/null 2>&1 &
pids+=($!)
export DISPLAY=:$display
for _ in $(seq 50); do [ -e /tmp/.X11-unix/X$display ] && break; sleep 0.1; done
cat >"$work/tmux.conf" <<'CONF'
set -g status off
set -g default-terminal "tmux-256color"
set -ga terminal-overrides ",*:Tc"
set -sg escape-time 0
CONF

# picture NAME COLUMNS ROWS GROUND TEXT KEYS -- ARGUMENTS: runs the program,
# waits for the text, presses the keys, and takes the picture.
picture() {
  local name=$1 columns=$2 rows=$3 ground=$4 text=$5 keys=$6; shift 7
  xterm -u8 -bg '#121318' -fg '#C9CBD1' -fa 'JetBrains Mono' -fs 11 +sb -bw 0 -b 0 -bc -tn xterm-256color -geometry "${columns}x$rows+0+0" \
    -e env LC_ALL=C.UTF-8 tmux -S "$work/tmux" -f "$work/tmux.conf" new-session \
    "env COLORTERM=truecolor NEIGHBOUR_BACKGROUND=$ground '$binary' $*" >/dev/null 2>&1 &
  local terminal=$!
  for _ in $(seq 100); do tmux -S "$work/tmux" has-session 2>/dev/null && break; sleep 0.05; done
  for _ in $(seq 600); do tmux -S "$work/tmux" capture-pane -p | grep -qF -- "$text" && break; sleep 0.05; done
  for k in $keys; do
    case $k in wait*) sleep "${k#wait}" ;; *) tmux -S "$work/tmux" send-keys "$k"; sleep 0.2 ;; esac
  done
  sleep 0.3
  timeout 20 import -window "$(xdotool search --class xterm | head -1)" "$out/$name.png"
  tmux -S "$work/tmux" kill-server 2>/dev/null || true
  wait $terminal 2>/dev/null || true
  echo "docs/screenshots/$name.png"
}

# A project that has no declaration yet.
first=$work/toolshed
mkdir -p "$first/api" "$first/web"
cat >"$first/api/package.json" <<'JSON'
{
  "name": "toolshed-api",
  "engines": { "node": ">=20" },
  "scripts": { "start": "node server.js" },
  "dependencies": { "pg": "^8.13.0", "ioredis": "^5.4.0", "nodemailer": "^6.9.0" }
}
JSON
echo '{}' >"$first/api/package-lock.json"
echo 'const port = process.env.PORT || 4100' >"$first/api/server.js"
echo '{ "scripts": { "dev": "vite" }, "devDependencies": { "vite": "^6.0.0" } }' >"$first/web/package.json"
echo 'VITE_API_URL=http://localhost:4100' >"$first/web/.env"
cat >"$first/.env.example" <<'ENV'
DATABASE_URL=postgres://shed@localhost:5432/toolshed
REDIS_URL=redis://localhost:6379
SMTP_HOST=localhost
SMTP_PORT=1025
LEDGER_URL=postgres://counter@ledger.example.org/toolshed
ENV
picture init 142 38 dark "built in" "Enter BSpace BSpace BSpace BSpace BSpace BSpace BSpace BSpace l e d g e r wait1" -- -C "$first" init

picture map 142 38 dark "13 of 13 ready" "Right Right wait12" -- demo
picture data 142 38 dark "13 of 13 ready" "8 wait1 Down Down Down Down Down Enter Down Down Down Down wait1" -- demo
picture logs 142 38 dark "failed" "wait9 2 wait1 / d r a w e r Enter wait1" -- demo --trouble
picture small 80 24 dark "13 of 13 ready" "Right Right wait1" -- demo
picture failed 142 38 dark "failed" "wait9 / n o t i Enter Escape wait1" -- demo --trouble
picture checks 142 38 dark "failed" "wait6 7 wait1 Up Up Up Up Up Up wait1" -- demo --trouble
picture wiring 142 38 dark "failed" "3 wait1 Down Down Down Down Down wait1" -- demo --trouble
"$binary" -C "$trouble" stop >/dev/null 2>&1 # it has the same names

# Some more starts, so that there is something to compare with, and a while of
# use.
"$binary" -C "$quiet" start >/dev/null 2>&1
for _ in $(seq 8); do
  "$binary" -C "$quiet" stop >/dev/null 2>&1
  "$binary" -C "$quiet" start >/dev/null 2>&1
done
picture starts 142 38 dark "13 of 13 ready" "4 wait1 Down Down Down Down g wait1" -- -C "$quiet"
picture usage 142 38 dark "13 of 13 ready" "6 wait40 Up Up Up Up Up Up Up Up Down Down wait1" -- -C "$quiet"
for errand in members overdue members "--yes remind" overdue; do
  "$binary" -C "$quiet" run $errand >/dev/null 2>&1
done
picture errands 142 38 dark "13 of 13 ready" "5 wait1 Down Enter wait2" -- -C "$quiet"

# The triggers, what was saved, and a run on a fresh copy.
picture triggers 142 38 dark "13 of 13 ready" "9 wait1 t wait1 Down wait1" -- -C "$quiet"
"$binary" -C "$quiet" snapshot save seeded >/dev/null
"$binary" -C "$quiet" snapshot save before-the-import >/dev/null
"$binary" -C "$quiet" snapshot restore seeded --yes >/dev/null 2>&1
picture snapshots 142 38 dark "13 of 13 ready" "8 wait1 S wait1 Down wait1" -- -C "$quiet"
picture fresh 142 38 dark "2 overdue" "wait1" -- -C "$quiet" run --fresh overdue "; sleep 20"

# Other projects of the same user.
other() { mkdir -p "$work/src/$1"; cat >"$work/src/$1/neighbour.toml"; }
other orchard <<'TOML'
[service.press]
kind = "documents"

[service.cellar]
run = "sleep 1000"

[service.scales]
run = "echo 'the scales do not answer'; exit 3"
restart = { when = "never" }
TOML
other old-shed <<'TOML'
[service.web]
run = "sleep 1000"
port = 4177
health = { run = "true" }

[service.shelf]
kind = "documents"
TOML
other till <<'TOML'
[service.drawer]
run = "sleep 1000"
port = 4177
health = { run = "true" }
TOML
other accounts <<'TOML'
[service.books]
kind = "documents"

[service.clerk]
run = "sleep 1000"
TOML
for p in old-shed accounts; do
  "$binary" -C "$work/src/$p" start >/dev/null 2>&1
  "$binary" -C "$work/src/$p" stop >/dev/null 2>&1
done
for p in orchard till; do "$binary" -C "$work/src/$p" start >/dev/null 2>&1 || true; done
head -c 300000000 /dev/zero >"$(cat "$work/src/accounts/.neighbour/place")/data/books/large"
touch -d '71 days ago' "$(cat "$work/src/accounts/.neighbour/place")/run/state.json"
touch -d '3 days ago' "$(cat "$work/src/old-shed/.neighbour/place")/run/state.json"
HOME=$work picture projects 142 38 dark "13 of 13 ready" "0 wait3 Down Down Down wait3" -- -C "$quiet"
for p in orchard till; do "$binary" -C "$work/src/$p" stop >/dev/null 2>&1; done

# Some requests by names, one of them slower than it usually is.
port=$("$binary" gate --json | sed -n 's/.*"http": \([0-9]*\).*/\1/p' | head -1)
ask() { curl -s -o /dev/null -H 'Accept: text/html' -H 'Cookie: session=b1d7' "http://127.0.0.1:$port$2" -H "Host: $1.localhost" "${@:3}"; }
for tool in drill plane ladder saw; do
  for _ in 1 2 3; do ask toolshed "/?q=$tool"; done
  ask api.toolshed "/tools?name=$tool"
done
ask toolshed /favicon.ico
ask api.toolshed /loans -H 'Content-Type: application/json' --data '{"tool": "ladder", "member": "Ines Brandt", "days": 3}'
ask toolshed /live -H 'Accept: application/json'
ask toolshed '/?q=hammer+drill'
picture traffic 142 38 dark "13 of 13 ready" "9 wait1 Down Down wait1" -- -C "$quiet"
sign_in=$("$binary" -C "$quiet" status --json | sed -n 's/.*"url": "\(http:[^"]*:41[0-9]*\)".*/\1/p' | while read -r u; do curl -fs "$u/.well-known/openid-configuration" >/dev/null 2>&1 && echo "$u" && break; done)
chromium --headless --no-sandbox --disable-gpu --disable-background-networking --disable-component-update --disable-sync --user-data-dir="$work/profile" --window-size=1280,800 \
  --screenshot="$out/sign-in.png" "$sign_in/authorize?client_id=toolshed&redirect_uri=http://localhost/back&response_type=code&scope=openid" >/dev/null 2>&1
echo docs/screenshots/sign-in.png
picture trust 142 38 dark "Add it to" "" -- trust

for format in svg pdf; do
  for what in map start usage wiring; do
    period=; [ $what != usage ] || period="--period 5m"
    "$binary" -C "$quiet" draw $what $period -o "docs/drawings/$what.$format"
  done
done
"$binary" -C "$quiet" stop >/dev/null 2>&1

# A preparation that took a while before, and a migration that fails.
mkdir -p "$held/db/changes" "$held/bin" "$held/api" "$held/page"
cp "$quiet"/db/changes/* "$held/db/changes"
cp "$quiet/db/seed.sql" "$held/db"
cat >"$held/bin/fetch" <<'SH'
#!/bin/sh
for i in 1 2 3 4 5 6 7 8 9 10 11 12; do echo "fetching package $i of 12"; sleep 0.5; done
mkdir -p packages
SH
chmod +x "$held/bin/fetch"
cat >"$held/neighbour.toml" <<'TOML'
[project]
name = "toolshed"

[service.members]
kind = "sqlite"
migrations = "db/changes"
seed = "db/seed.sql"

[service.shelf]
run = "sleep 1000"

[service.api]
run = "sleep 1000"
dir = "api"
prepare = [{ run = "../bin/fetch", makes = ["packages"] }]
needs = ["shelf"]
env.MEMBERS_FILE = "${members.path}"

[service.web]
kind = "static"
root = "page"
needs = ["api"]
TOML
"$binary" -C "$held" start >/dev/null 2>&1
"$binary" -C "$held" stop >/dev/null 2>&1
rm -r "$held/api/packages"
"$binary" -C "$held" start --no-wait >/dev/null 2>&1
for _ in $(seq 100); do "$binary" -C "$held" status | grep -q preparing && break; sleep 0.1; done
chromium --headless --no-sandbox --disable-gpu --disable-background-networking --disable-component-update --disable-sync --user-data-dir="$work/profile" --window-size=1280,800 \
  --screenshot="$out/waiting.png" "http://toolshed.localhost:$port/" >/dev/null 2>&1
echo docs/screenshots/waiting.png
"$binary" -C "$held" stop >/dev/null 2>&1
