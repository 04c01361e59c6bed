#!/bin/sh
# Installs the programs that the service and its tests run, where they are missing: a MariaDB server and Chromium.
set -eu

missing=""
for dir in /usr/sbin $(echo "$PATH" | tr : ' '); do
  [ -x "$dir/mariadbd" ] && mariadbd=yes
  [ -x "$dir/my_print_defaults" ] && mariadb=${mariadbd:-}
  [ -x "$dir/chromium" ] && chromium=yes
done
[ "${mariadb:-}" = yes ] || missing="$missing mariadb-server-core mariadb-client-core"
[ "${chromium:-}" = yes ] || missing="$missing chromium"

for program in go node npm; do
  command -v $program >/dev/null || { echo "Install $program first: airdrift is built with Go 1.26 and Node 20 or newer." >&2; exit 1; }
done
[ -z "$missing" ] && exit 0

if ! command -v apt-get >/dev/null; then
  echo "Install these with your system's packages, then run make again:$missing" >&2
  exit 1
fi
as_root=""
if [ "$(id -u)" != 0 ]; then
  command -v sudo >/dev/null || { echo "As root: apt-get install$missing" >&2; exit 1; }
  as_root=sudo
fi
echo "Installing$missing ..."
$as_root apt-get update -qq
# The core packages have the programs alone: no server of the distribution's own starts beside ours.
$as_root env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $missing >/dev/null
