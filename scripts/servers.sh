#!/bin/sh
# Installs the real servers that the probes are held against in a namespace of the tests' own. None of them is started on this
# machine: where there is no policy for that yet, one is put in place for the time of the installation, and they are not enabled.
# Those that are packages of Node.js are put beside the tests; it needs ${NPM:-npm}, as the console does.
# servers.sh --programs names the programs that the tests then have to find.
set -eu
if [ "${1:-}" = --programs ]; then
  echo snmpd sshd nginx vsftpd mosquitto avahi-daemon dnsmasq lldpd wsdd miniupnpd xrdp dropbear telnetd keepalived knxd coap-server-notls ipmi_sim smbd /usr/bin/python3 node apache2 lighttpd mini_httpd webfsd haproxy chronyd p910nd ustreamer baresip
  exit 0
fi
packages="snmpd openssh-server nginx-light vsftpd mosquitto avahi-daemon dnsmasq-base lldpd wsdd miniupnpd xrdp dropbear-bin inetutils-telnetd keepalived knxd libcoap3-bin openipmi samba python3-pymodbus python3-serial python3-serial-asyncio openssl iproute2 util-linux apache2-bin lighttpd mini-httpd webfs haproxy chrony p910nd ustreamer baresip-core"
programs=$(dirname "$0")/../hostwire/testdata/programs
if [ ! -d "$programs/node_modules" ] || [ "$programs/package-lock.json" -nt "$programs/node_modules" ]; then
  echo "Installing the programs of Node.js ..."
  (cd "$programs" && "${NPM:-npm}" ci --silent --no-audit --no-fund --ignore-scripts && touch node_modules)
fi
as_root=
[ "$(id -u)" = 0 ] || as_root=sudo
missing=
for package in $packages; do
  dpkg -s "$package" >/dev/null 2>&1 || missing="$missing $package"
done
[ -n "$missing" ] || exit 0
policy=/usr/sbin/policy-rc.d
if [ ! -e "$policy" ]; then
  printf '#!/bin/sh\nexit 101\n' | $as_root tee "$policy" >/dev/null
  $as_root chmod 755 "$policy"
  trap '$as_root rm -f "$policy"' EXIT
fi
echo "Installing$missing ..."
$as_root apt-get update -qq
# shellcheck disable=SC2086 # a list of packages
$as_root env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $missing >/dev/null
# A server that this has brought stays switched off at the next start of the machine too; those that were there stay as they are.
if [ -d /run/systemd/system ]; then
  for pair in snmpd:snmpd openssh-server:ssh nginx-light:nginx vsftpd:vsftpd mosquitto:mosquitto avahi-daemon:avahi-daemon lldpd:lldpd wsdd:wsdd miniupnpd:miniupnpd xrdp:xrdp keepalived:keepalived knxd:knxd openipmi:openipmi samba:smbd samba:nmbd samba:samba-ad-dc lighttpd:lighttpd mini-httpd:mini-httpd webfs:webfs haproxy:haproxy chrony:chrony p910nd:p910nd; do
    case $missing in
      *"${pair%%:*}"*) $as_root systemctl disable --quiet "${pair##*:}" || true ;;
    esac
  done
fi
