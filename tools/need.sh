#!/usr/bin/env bash
# Sees to it that tools are there: need.sh NAME... Debian packages that lack are installed; toolchains that Debian has
# only in older versions are asked for.
set -euo pipefail
least() { # least VERSION WANTED
  [ "$(printf '%s\n%s\n' "$2" "$1" | sort -V | head -n1)" = "$2" ]
}
have() {
  case $1 in
    go) command -v go >/dev/null && least "$(go env GOVERSION | sed 's/^go//')" 1.26 ;;
    node) command -v npm >/dev/null && least "$(node --version | sed 's/^v//')" 20.19 ;;
    mariadb-client) command -v mariadb >/dev/null ;;
    mariadb-server) [ -x /usr/sbin/mariadbd ] && command -v mariadb-install-db >/dev/null ;;
    postgresql) compgen -G '/usr/lib/postgresql/*/bin/initdb' >/dev/null ;;
    systemd) command -v systemd-analyze >/dev/null ;;
    *) command -v "$1" >/dev/null ;;
  esac
}
missing=()
for name in "$@"; do
  have "$name" && continue
  case $name in
    go) echo "Go 1.26 or later is needed and not there; get it from your Go distributor, and put it on the PATH" >&2; exit 1 ;;
    node) echo "Node.js 20.19 or later with npm is needed and not there; get it from your Node.js distributor, and put it on the PATH" >&2; exit 1 ;;
  esac
  missing+=("$name")
done
[ ${#missing[@]} -eq 0 ] && exit 0
echo "== installing Debian packages: ${missing[*]}"
sudo=
[ "$(id -u)" -eq 0 ] || sudo=sudo
$sudo apt-get update -qq
DEBIAN_FRONTEND=noninteractive $sudo apt-get install -y -qq --no-install-recommends "${missing[@]}" >/dev/null
