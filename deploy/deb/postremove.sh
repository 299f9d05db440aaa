#!/bin/sh
# The catalog and the first store stay in /var/lib/ambercellar, whatever is removed.
set -e
if [ -d /run/systemd/system ]; then
	systemctl daemon-reload
fi
if [ "$1" = purge ]; then
	rmdir --ignore-fail-on-non-empty /etc/ambercellar/secrets /etc/ambercellar 2>/dev/null || true
fi
