#!/bin/sh
# Before removal, and not before an upgrade: the service is stopped. Its data in /var/lib/airdrift stays.
set -e
if [ "$1" = remove ] && [ -d /run/systemd/system ]; then
  systemctl disable --now airdrift.service || true
fi
