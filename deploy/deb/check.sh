#!/usr/bin/env bash
# Installs the newest package in build/, asks the program, removes the package, and looks at what stays.
set -euo pipefail
cd "$(dirname "$0")/../.."
sudo=
[ "$(id -u)" -eq 0 ] || sudo=sudo
package=$(ls -t build/ambercellar_*.deb | head -1)
echo "== checking $package, $(stat -c %s "$package") bytes"
$sudo apt-get install -y -qq --no-install-recommends "./$package" >/dev/null
ambercellar version
[ -f /usr/share/man/man1/ambercellar-run.1.gz ] || { echo "the manual pages are missing"; exit 1; }
[ "$(stat -c '%U %a' /var/lib/ambercellar)" = "ambercellar 700" ]
$sudo -u ambercellar true 2>/dev/null || su -s /bin/sh ambercellar -c true
data=/var/lib/ambercellar
su -s /bin/sh ambercellar -c "ambercellar serve -data $data -listen 127.0.0.1:0" > build/deb-check.log 2>&1 &
served=$!
for _ in $(seq 50); do grep -q '^listening at' build/deb-check.log && break; sleep 0.1; done
address=$(sed -n 's/^listening at //p' build/deb-check.log)
AMBERCELLAR_SERVER=$address AMBERCELLAR_TOKEN=$($sudo cat $data/administrator-token) ambercellar doctor
pkill -TERM -u ambercellar ambercellar; wait $served || true
$sudo apt-get install -y -qq --reinstall --no-install-recommends "./$package" >/dev/null
$sudo apt-get purge -y -qq ambercellar >/dev/null
[ -f $data/catalog.db ] || { echo "purging the package removed the catalog"; exit 1; }
for gone in /usr/bin/ambercellar /lib/systemd/system/ambercellar.service /etc/ambercellar; do
	[ ! -e $gone ] || { echo "$gone stays"; exit 1; }
done
$sudo rm -r $data
$sudo deluser --quiet ambercellar
echo "== the package installs, works and goes; its data stay until somebody removes them"
