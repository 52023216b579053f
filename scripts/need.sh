#!/usr/bin/env bash
# Installs from Debian's packages what is missing here: what the product runs on, and with
# "test" also what the tests look at it with, with "package" or "container" what those are tried in.
set -euo pipefail

missing=()
need() { # command package
  command -v "$1" >/dev/null 2>&1 || missing+=("$2")
}

ls /usr/lib/postgresql/*/bin/postgres >/dev/null 2>&1 || missing+=(postgresql)
need cc gcc
need setpriv util-linux
if ! command -v node >/dev/null 2>&1 || ! command -v npm >/dev/null 2>&1; then
  missing+=(nodejs npm)
fi
# Live pages are captured in either of the two.
[ "${1:-run}" = test ] || command -v chromium >/dev/null 2>&1 || need chromium-headless-shell chromium-headless-shell
if [ "${1:-run}" = test ]; then
  need chromium-headless-shell chromium-headless-shell
  need chromium chromium
  need chromedriver chromium-driver
  need script bsdutils
  need pdftotext poppler-utils
  need qpdf qpdf
  [ -e /usr/share/fonts/truetype/dejavu/DejaVuSans.ttf ] || missing+=(fonts-dejavu-core)
  need openssl openssl
  need mariadbd mariadb-server-core
  # Its first database is made with a program of the client.
  need my_print_defaults mariadb-client-core
  need python3 python3
  ls /usr/lib/*/faketime/libfaketimeMT.so.1 >/dev/null 2>&1 || missing+=(libfaketime)
  [ -x /usr/sbin/exim4 ] || missing+=(exim4-daemon-light)
  [ -x /usr/sbin/slapd ] || missing+=(slapd)
  [ -x /usr/sbin/snmpd ] || missing+=(snmpd)
  [ -x /usr/sbin/snmptrapd ] || missing+=(snmptrapd)
  [ -x /usr/sbin/sshd ] || missing+=(openssh-server)
  [ -x /lib/systemd/systemd-journal-remote ] || missing+=(systemd-journal-remote)
fi

if [ "${1:-run}" = container ]; then
  need debootstrap debootstrap
  need podman podman
  need runc runc
  [ -x /usr/lib/podman/netavark ] || missing+=(netavark)
  [ -x /usr/lib/podman/aardvark-dns ] || missing+=(aardvark-dns)
  need docker-compose docker-compose
  need curl curl
  need openssl openssl
fi

if [ "${1:-run}" = package ]; then
  need debootstrap debootstrap
  need readelf binutils
fi

if [ ${#missing[@]} -gt 0 ]; then
  echo "Installing from Debian's packages: ${missing[*]}"
  sudo=""
  if [ "$(id -u)" != 0 ]; then
    command -v sudo >/dev/null 2>&1 || { echo "error: ${missing[*]} must be installed, and neither root nor sudo is at hand; run: apt-get install ${missing[*]}" >&2; exit 1; }
    sudo=sudo
  fi
  # The server is started by us; Debian's own cluster is not wanted.
  if [ ! -e /etc/postgresql-common/createcluster.conf ] && [[ " ${missing[*]} " == *" postgresql "* ]]; then
    $sudo mkdir -p /etc/postgresql-common
    echo "create_main_cluster = false" | $sudo tee /etc/postgresql-common/createcluster.conf >/dev/null
  fi
  # The tests start a mail server, a directory, an agent and the like of their own; the packages' are not wanted either.
  policy=/usr/sbin/policy-rc.d
  if [ ! -e "$policy" ] && [[ " ${missing[*]} " =~ " exim4-daemon-light "|" slapd "|" snmpd "|" snmptrapd "|" openssh-server "|" systemd-journal-remote " ]]; then
    printf '#!/bin/sh\ncase "$1" in exim4|slapd|snmpd|snmptrapd|ssh|systemd-journal-remote) exit 101 ;; esac\nexit 0\n' | $sudo tee "$policy" >/dev/null
    $sudo chmod 755 "$policy"
    trap '$sudo rm -f "$policy"' EXIT
  fi
  $sudo apt-get update -qq || { echo "error: Debian's packages cannot be reached; connect this machine to them, or install by hand: ${missing[*]}" >&2; exit 1; }
  DEBIAN_FRONTEND=noninteractive $sudo apt-get install -y -qq --no-install-recommends "${missing[@]}" >/dev/null \
    || { echo "error: Debian's packages ${missing[*]} could not be installed; apt-get said why above" >&2; exit 1; }
fi

# Clocks are changed by law; the system's zone files follow by Debian's updates. Without them
# the program's own rules hold, so a machine that cannot be updated goes on as it is.
stamp="${XDG_CACHE_HOME:-$HOME/.cache}/maple-lark/zone-files-looked-at"
release=$(sed -n '1s/^# version //p' /usr/share/zoneinfo/tzdata.zi 2>/dev/null || true)
if [[ "$release" < "$(date +%Y)" ]] && [ -z "$(find "$stamp" -mtime -1 2>/dev/null)" ]; then
  mkdir -p "$(dirname "$stamp")"
  touch "$stamp"
  if command -v apt-get >/dev/null 2>&1; then
    as=""
    [ "$(id -u)" = 0 ] || as="sudo -n"
    echo "Bringing the rules of time zones up to date (Debian's package tzdata, now ${release:-none})"
    { $as apt-get update -qq && DEBIAN_FRONTEND=noninteractive $as apt-get install -y -qq --no-install-recommends tzdata; } >/dev/null 2>&1 \
      || echo "They stay as they are; the program brings its own along."
  fi
fi

new_enough() {
  node -e 'const [a, b] = process.versions.node.split(".").map(Number); process.exit(a > 20 || (a === 20 && b >= 19) ? 0 : 1)'
}
# Debian's own Node may be older than the console's build tools want; the package registry
# has a newer one, which the Makefile puts first in the path.
if ! new_enough; then
  echo "Node $(node --version) is older than 20.19; fetching a newer one for the build"
  npm install --silent --no-audit --no-fund --prefix "$HOME/.cache/maple-lark/node" node@22 \
    || { echo "error: Node 20.19 or newer is needed and the npm registry cannot be reached; install it by hand" >&2; exit 1; }
fi
