#!/bin/sh
# After installation and upgrade: the service's user, and the unit that systemd knows.
set -e
systemd-sysusers airdrift.conf 2>/dev/null || id airdrift >/dev/null 2>&1 ||
  useradd --system --home-dir /var/lib/airdrift --shell /usr/sbin/nologin airdrift
if [ -d /run/systemd/system ]; then
  systemctl daemon-reload
  systemctl try-restart airdrift.service || true
fi
