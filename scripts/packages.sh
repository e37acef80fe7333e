#!/usr/bin/env bash
# Installs the Debian packages that a purpose needs, where that is possible.
#
#   packages.sh test|bench|screenshots
#
# Without root, sudo or apt-get it says what is missing and goes on, and what
# needs it is skipped, unless CI=true. No system service is started by an
# installation, and none that runs is stopped.
set -euo pipefail

# A package and a program that it brings.
case ${1:-} in
bench) wanted="postgresql:/usr/lib/postgresql/*/bin/postgres redis-server:redis-server" ;;
test) wanted="postgresql:/usr/lib/postgresql/*/bin/postgres redis-server:redis-server mariadb-server:/usr/sbin/mariadbd memcached:memcached
  nats-server:nats-server mosquitto:/usr/sbin/mosquitto beanstalkd:beanstalkd rabbitmq-server:/usr/lib/rabbitmq/bin/rabbitmq-server nginx-light:/usr/sbin/nginx apache2:/usr/sbin/apache2
  php-fpm:/usr/sbin/php-fpm* php-cli:php php-mysql:/etc/php/*/fpm/conf.d/*mysqli.ini tmux:tmux git:git nodejs:node gcc:gcc libc6-dev:/usr/include/stdlib.h procps:ps" ;;
screenshots) wanted="xvfb:Xvfb xterm:xterm xdotool:xdotool tmux:tmux imagemagick:import fonts-jetbrains-mono:/usr/share/fonts/truetype/jetbrains-mono/*" ;;
*) sed -n '2,9p' "$0"; exit 2 ;;
esac

missing=()
for w in $wanted; do
  case ${w#*:} in
  /*) compgen -G "${w#*:}" >/dev/null || missing+=("${w%%:*}") ;;
  *) command -v "${w#*:}" >/dev/null || missing+=("${w%%:*}") ;;
  esac
done
[ ${#missing[@]} -eq 0 ] && exit 0

cannot() {
  echo "packages: missing: ${missing[*]}; $1" >&2
  [ "${CI:-}" = true ] && exit 1
  exit 0
}
command -v apt-get >/dev/null || cannot "there is no apt-get here, so install them by hand"
as_root=()
if [ "$(id -u)" != 0 ]; then
  sudo -n true 2>/dev/null || cannot "run as root, or: sudo apt-get install ${missing[*]}"
  as_root=(sudo -n)
fi

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

echo "packages: installing ${missing[*]}" >&2
export DEBIAN_FRONTEND=noninteractive
"${as_root[@]}" apt-get update -qq >&2
"${as_root[@]}" apt-get install -y -qq --no-install-recommends "${missing[@]}" >&2
