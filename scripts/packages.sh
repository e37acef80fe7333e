#!/usr/bin/env bash
# Installs the Debian packages that a purpose needs, where that is possible.
#
#   packages.sh test|bench|screenshots
#
# Without root, sudo or apt-get it says what is missing and goes on, and what
# needs it is skipped, unless CI=true. No system service is started by an
# installation or will be by the next boot, none that runs is stopped, and
# PostgreSQL gets no cluster of the system's.
set -euo pipefail

# A package and a program that it brings.
case ${1:-} in
bench) wanted="postgresql:/usr/lib/postgresql/*/bin/postgres redis-server:redis-server nginx-light:/usr/sbin/nginx wrk:wrk" ;;
test) wanted="postgresql:/usr/lib/postgresql/*/bin/postgres redis-server:redis-server mariadb-server:/usr/sbin/mariadbd memcached:memcached
  nats-server:/usr/sbin/nats-server mosquitto:/usr/sbin/mosquitto beanstalkd:beanstalkd rabbitmq-server:/usr/lib/rabbitmq/bin/rabbitmq-server nginx-light:/usr/sbin/nginx apache2:/usr/sbin/apache2
  php-fpm:/usr/sbin/php-fpm* php-cli:php php-mysql:/etc/php/*/fpm/conf.d/*mysqli.ini tmux:tmux git:git nodejs:node npm:npm curl:curl libnss3-tools:certutil swaks:swaks libnet-ssleay-perl:/usr/lib/*/perl5/*/Net/SSLeay.pm python3:python3 sqlite3:sqlite3 chromium:chromium librsvg2-bin:rsvg-convert poppler-utils:pdftoppm gcc:gcc libc6-dev:/usr/include/stdlib.h procps:ps" ;;
screenshots) wanted="xvfb:Xvfb xterm:xterm xdotool:xdotool tmux:tmux imagemagick:import fonts-jetbrains-mono:/usr/share/fonts/truetype/jetbrains-mono/* chromium:chromium curl:curl" ;;
*) sed -n '2,11p' "$0"; exit 2 ;;
esac

missing=()
for w in $wanted; do
  case ${w#*:} in
  /*) compgen -G "${w#*:}" >/dev/null || missing+=("${w%%:*}") ;;
  *) command -v "${w#*:}" >/dev/null || missing+=("${w%%:*}") ;;
  esac
done
[ ${#missing[@]} -eq 0 ] && exit 0

# The system services that the packages bring, for the advice.
services() {
  for p in "${missing[@]}"; do
    case $p in
    postgresql | redis-server | memcached | nats-server | mosquitto | beanstalkd | rabbitmq-server | apache2) echo "$p" ;;
    mariadb-server) echo mariadb ;;
    nginx-light) echo nginx ;;
    php-fpm) echo 'php*-fpm' ;;
    esac
  done
}

cannot() {
  echo "packages: missing: ${missing[*]}; $1" >&2
  if command -v apt-get >/dev/null; then
    echo "    sudo apt-get install ${missing[*]}" >&2
    local units
    units=$(services | tr '\n' ' ')
    [ -z "$units" ] || printf '  They come as services of the system, which Neighbour does not need; to have them neither now nor at the next boot:\n    sudo systemctl disable --now %s\n' "$units" >&2
  fi
  [ "${CI:-}" = true ] && exit 1
  exit 0
}
command -v apt-get >/dev/null || cannot "there is no apt-get here, so install them by hand"
as_root=(env DEBIAN_FRONTEND=noninteractive)
if [ "$(id -u)" != 0 ]; then
  sudo -n true 2>/dev/null || cannot "run as root, or install them:"
  as_root=(sudo -n env DEBIAN_FRONTEND=noninteractive)
fi

# What is started at a boot: the links of systemd (systemd.unit(5)) and of
# insserv (update-rc.d(8)).
enabled() {
  find /etc/systemd/system -type l -path '*.wants/*' 2>/dev/null | sed 's|.*/|unit |'
  find /etc/rc[2345].d -name 'S*' 2>/dev/null | sed 's|.*/S[0-9]*|script |'
}
clusters() { compgen -G '/etc/postgresql/*/*' || true; }
enabled_before=$(enabled | sort -u)
clusters_before=$(clusters)

# Installed services are not to be started: the machine's policy file says so
# for as long as the installation takes (invoke-rc.d(8)).
policy=/usr/sbin/policy-rc.d
aside=
if [ -e $policy ]; then
  aside=$policy.neighbour
  "${as_root[@]}" mv $policy $aside
fi
restore() {
  "${as_root[@]}" rm -f $policy
  [ -z "$aside" ] || "${as_root[@]}" mv "$aside" $policy
}
trap restore EXIT
printf '#!/bin/sh\nexit 101\n' | "${as_root[@]}" tee $policy >/dev/null
"${as_root[@]}" chmod 755 $policy

"${as_root[@]}" apt-get update -qq >&2
size=$({ "${as_root[@]}" env LC_ALL=C apt-get install --assume-no --no-install-recommends "${missing[@]}" 2>/dev/null || true; } | sed -n 's#^Need to get \([0-9.,]* [kMG]*B\).*#\1 to download#p; s#^After this operation, \([0-9.,]* [kMG]*B\) of additional.*#\1 on disk#p' | paste -sd'|' | sed 's#|#, #')
echo "packages: installing, which takes some minutes (${size:-of unknown size}): ${missing[*]}" >&2
"${as_root[@]}" apt-get install -y -qq --no-install-recommends "${missing[@]}" >&2

# What this installation enabled, and only that, is disabled again.
comm -13 <(echo "$enabled_before") <(enabled | sort -u) | while read -r sort name; do
  case $sort in
  script) "${as_root[@]}" update-rc.d "$name" disable >/dev/null 2>&1 || true ;;
  unit) "${as_root[@]}" systemctl disable "$name" >/dev/null 2>&1 || "${as_root[@]}" find /etc/systemd/system -type l -path "*.wants/$name" -delete ;;
  esac
done
for c in $(clusters); do
  case " $clusters_before " in *"$c"*) continue ;; esac
  cluster=${c#/etc/postgresql/}
  "${as_root[@]}" pg_dropcluster "${cluster%%/*}" "${cluster#*/}" || echo "packages: the cluster $cluster that the installation made is still there" >&2
done
