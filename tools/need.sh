#!/usr/bin/env bash
# Installs Debian packages that are needed and not there: need.sh NAME...
set -euo pipefail
have() {
  case $1 in
    postgresql) compgen -G '/usr/lib/postgresql/*/bin/initdb' >/dev/null ;;
    chromium) command -v chromium >/dev/null ;;
    node) command -v npm >/dev/null ;;
    *) command -v "$1" >/dev/null ;;
  esac
}
package() {
  case $1 in
    node) echo "nodejs npm" ;;
    *) echo "$1" ;;
  esac
}
missing=()
for name in "$@"; do
  have "$name" || missing+=($(package "$name"))
done
[ ${#missing[@]} -eq 0 ] && exit 0
echo "== installing Debian packages: ${missing[*]}"
sudo=
[ "$(id -u)" -eq 0 ] || sudo=sudo
$sudo apt-get update -qq
DEBIAN_FRONTEND=noninteractive $sudo apt-get install -y -qq --no-install-recommends "${missing[@]}" >/dev/null
