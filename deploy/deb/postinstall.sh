#!/bin/sh
# A user of its own, and nothing that runs before somebody starts it. An upgrade starts a service that ran again.
set -e
getent passwd ambercellar >/dev/null ||
	adduser --system --group --home /var/lib/ambercellar --no-create-home --gecos "Amber Cellar" ambercellar >/dev/null
install -d -m 0700 -o ambercellar -g ambercellar /var/lib/ambercellar
install -d -m 0750 -o root -g ambercellar /etc/ambercellar/secrets
if [ -d /run/systemd/system ]; then
	systemctl daemon-reload
	systemctl try-restart ambercellar.service
fi
