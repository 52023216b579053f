#!/usr/bin/env bash
# Installs, starts, upgrades, removes and purges the package in a fresh Debian of its own, under its own
# systemd, and has the unit looked at by systemd's checkers. Needs root: it makes a Debian in a folder.
set -euo pipefail

target=$1
[ "$(id -u)" = 0 ] || { echo "error: run this as root: it makes a Debian in a folder and starts it" >&2; exit 1; }

work=$(mktemp -d)
base=$target/debian-base
root=$work/root
system=
end() {
  # Everything in it ends with its first process, and what is mounted for it goes with that.
  [ -z "$system" ] || kill -9 "$system" 2>/dev/null || true
  for _ in $(seq 50); do rm -rf --one-file-system "$work" 2>/dev/null && break; sleep 0.2; done
}
trap end EXIT

step() { echo "● $*"; }
fail() { echo "error: $*" >&2; exit 1; }
# Whether what is said is what is expected.
is() { # what, expected, said
  [ "$2" = "$3" ] || fail "$1: expected \"$2\", but it is \"$3\""
}
inside() { timeout 300 nsenter --target "$system" --mount --uts --ipc --net --pid --root --wd -- /usr/bin/env -i PATH=/usr/sbin:/usr/bin:/sbin:/bin HOME=/root LC_ALL=C.UTF-8 DEBIAN_FRONTEND=noninteractive "$@"; }
as_service() { inside setpriv --reuid maple-lark --regid maple-lark --clear-groups "$@"; }
of_unit() { inside systemctl show --property "$1" --value maple-lark; }

# A Debian with PostgreSQL and Chromium, made once.
suite=$(. /etc/os-release && echo "$VERSION_CODENAME")
if [ ! -e "$base/made" ]; then
  step "Making a Debian ($suite) in $base; this takes some minutes"
  rm -rf "$base"
  mkdir -p "$base/root"
  debootstrap --variant=minbase --include=adduser,ca-certificates,curl,dbus,procps,systemd,systemd-sysv,tzdata,util-linux \
    "$suite" "$base/root" >"$base/log" 2>&1 || fail "debootstrap failed; see $base/log"
  printf '#!/bin/sh\nexit 101\n' >"$base/root/usr/sbin/policy-rc.d"
  chmod 755 "$base/root/usr/sbin/policy-rc.d"
  chroot "$base/root" /usr/bin/env DEBIAN_FRONTEND=noninteractive LC_ALL=C.UTF-8 \
    apt-get install -y -qq --no-install-recommends postgresql chromium-headless-shell >>"$base/log" 2>&1 || fail "PostgreSQL and Chromium were not installed; see $base/log"
  rm "$base/root/usr/sbin/policy-rc.d"
  touch "$base/made"
fi

new=$(ls -t "$target"/debian/maple-lark_*.deb | head -n 1)
step "$(basename "$new")"
cp -a "$base/root" "$root"
mkdir "$root/packages"
cp "$new" "$root/packages/new.deb"
# The version before: the same with a lower number, as there is none before the first.
dpkg-deb --raw-extract "$new" "$work/old"
sed -i 's/^Version: .*/Version: 0.0.1-1/' "$work/old/DEBIAN/control"
dpkg-deb -Zgzip -z1 --build "$work/old" "$root/packages/old.deb" >/dev/null

# What is not of use in a folder, such as the check of its disks, does not start there.
is_up() {
  case "$(inside systemctl is-system-running 2>/dev/null || true)" in running | degraded) true ;; *) false ;; esac
}
start() {
  local own=$1
  mount --bind "$own" "$own"
  mount -t proc proc "$own/proc"
  mount --rbind /sys "$own/sys"
  mount -t tmpfs tmpfs "$own/run"
  mount -t tmpfs tmpfs "$own/tmp"
  mount --rbind /dev "$own/dev"
  mount -t cgroup2 none "$own/sys/fs/cgroup"
  # Units that see another file system than the rest need a root that is mounted, not one that is only changed to.
  mkdir -p "$own/outside"
  cd "$own"
  pivot_root . outside
  umount --lazy /outside
  exec /usr/bin/env -i container=other /lib/systemd/systemd
}
export -f start
unshare --fork --pid --mount --propagation private --uts --ipc --net --cgroup bash -c 'start "$0"' "$root" >"$work/system.log" 2>&1 &
outer=$!
for _ in $(seq 100); do
  system=$(pgrep -P "$outer" || true)
  [ -n "$system" ] && is_up && break
  sleep 0.3
done
is_up || fail "its systemd did not start: $(cat "$work/system.log")"

step "It is installed, and not started before it is configured"
inside apt-get install -y -qq --no-install-recommends /packages/old.deb >"$work/apt.log" 2>&1 || fail "$(cat "$work/apt.log")"
is "the unit" enabled "$(inside systemctl is-enabled maple-lark)"
is "the service" inactive "$(of_unit ActiveState)"
is "its folder" "750 maple-lark maple-lark" "$(inside stat -c '%a %U %G' /etc/maple-lark)"
is "its configuration" "640 maple-lark maple-lark" "$(inside stat -c '%a %U %G' /etc/maple-lark/maple-lark.toml)"
for file in /usr/share/man/man1/maple-lark.1.gz /usr/share/man/man1/maple-lark-serve.1.gz /usr/share/bash-completion/completions/maple-lark /usr/share/doc/maple-lark/install.md; do
  inside test -s "$file" || fail "$file is not there"
done
inside systemctl start maple-lark 2>/dev/null && fail "it starts without a configuration"
is "what it ended with" 78 "$(of_unit ExecMainStatus)"
is "how often it was tried again" 0 "$(of_unit NRestarts)"
inside journalctl --quiet --unit maple-lark --output cat | grep -q "missing field .database" || fail "its log does not say what is missing"
inside systemctl reset-failed maple-lark

step "systemd finds nothing wrong with its unit"
said=$(inside systemd-analyze verify --man=no maple-lark.service 2>&1 | grep maple-lark || true)
is "systemd-analyze verify" "" "$said"
inside systemd-analyze security --no-pager maple-lark | tail -n 1
inside systemd-analyze security --no-pager --offline=yes --threshold=30 /lib/systemd/system/maple-lark.service >/dev/null || fail "its unit may do more than it needs"

step "It is configured as its documentation says, and starts"
inside systemctl start postgresql
for _ in $(seq 100); do inside runuser -u postgres -- psql -qc "" 2>/dev/null && break; sleep 0.3; done
inside runuser -u postgres -- createuser maple-lark
inside runuser -u postgres -- createdb --owner maple-lark maple-lark
password=$(as_service maple-lark init --output json --folder /etc/maple-lark --database 'postgresql:///maple-lark?host=/var/run/postgresql&user=maple-lark' | sed -n 's/.*"password": *"\([^"]*\)".*/\1/p')
[ -n "$password" ] || fail "init told no password"
inside sed -i '1i sources-may-measure = ["/", "machine", "units", "journal"]' /etc/maple-lark/maple-lark.toml
inside usermod --append --groups systemd-journal maple-lark
inside systemctl start maple-lark || fail "it does not start: $(inside journalctl --quiet --unit maple-lark --output cat)"
is "the service" active "$(of_unit ActiveState)"
inside curl -fsS http://127.0.0.1:8480/ready >/dev/null
process=$(of_unit MainPID)
status() { inside sed -n "s/^$1:[[:space:]]*//p" "/proc/$process/status"; }
is "its capabilities" "0000000000000000 0000000000000000" "$(status CapEff) $(status CapBnd)"
is "new privileges, and calls of the kernel" "1 2" "$(status NoNewPrivs) $(status Seccomp)"
client() { inside /usr/bin/env MAPLE_LARK_ADDRESS=http://127.0.0.1:8480 MAPLE_LARK_PASSWORD="$password" maple-lark "$@"; }
client sign-in --name admin >/dev/null
client teams new port --title "Port operations" >/dev/null
client condition || true
client condition --output json >"$work/condition.json" || true
grep -q '"what": "browser"' "$work/condition.json" || fail "the browser is not looked at"

step "It tells of the units and the journal of the machine that it runs on"
inside sh -c 'mkdir /root/definitions; printf "[source]\nname = \"here\"\nkind = \"local-checks\"\n" > /root/definitions/here.toml'
client apply /root/definitions --yes >/dev/null
asked() { # the check, and what only some of it is
  inside sh -c "printf '[query]\nsource = \"here\"\ncheck = \"$1\"\ntargets = [\"$2\"]\n' > /root/query.toml"
  client query --file /root/query.toml --output json
}
asked units 'maple-lark.service' >"$work/units.json" || fail "$(cat "$work/units.json")"
grep -q '"running"' "$work/units.json" || fail "its unit is not told to be running: $(cat "$work/units.json")"
asked journal maple-lark.service >"$work/journal.json" || fail "$(cat "$work/journal.json")"
grep -q '"maple-lark.service"' "$work/journal.json" || fail "its lines are not counted: $(cat "$work/journal.json")"

step "A live page is captured, in the browser's own sandbox"
answer='$s = IO::Socket::INET->new(LocalAddr => "127.0.0.1:8099", Listen => 5, ReuseAddr => 1) or die; while ($c = $s->accept) { while (<$c>) { last if /^\r?\n$/ } print $c "HTTP/1.0 200 OK\r\nContent-Type: text/html\r\n\r\n<title>Lights</title><h1>Harbour lights</h1>"; close $c }'
inside perl -MIO::Socket::INET -e "$answer" &
disown
client capture http://127.0.0.1:8099/ --formats png --into /root/captured >"$work/capture.log" 2>&1 || fail "$(cat "$work/capture.log")"
[ -n "$(inside find /root/captured -name '*.png' -size +1k)" ] || fail "nothing was captured: $(cat "$work/capture.log")"
inside journalctl --quiet --unit maple-lark --output cat | grep "without its sandbox" && fail "the browser's sandbox does not work"

step "It is upgraded: started again, with its configuration and its records"
inside sh -c 'echo "# Ours." >> /etc/maple-lark/maple-lark.toml'
inside apt-get install -y -qq --no-install-recommends /packages/new.deb >"$work/apt.log" 2>&1 || fail "$(cat "$work/apt.log")"
is "the service" active "$(of_unit ActiveState)"
[ "$process" != "$(of_unit MainPID)" ] || fail "the old program still runs"
inside grep -q "# Ours." /etc/maple-lark/maple-lark.toml || fail "its configuration was written over"
client teams | grep -q "Port operations" || fail "the records are gone"

step "It is removed; its configuration stays"
inside apt-get remove -y -qq maple-lark >"$work/apt.log" 2>&1 || fail "$(cat "$work/apt.log")"
inside test ! -e /usr/bin/maple-lark || fail "the program is still there"
is "the service" inactive "$(of_unit ActiveState)"
inside test -s /etc/maple-lark/secret-key || fail "the key of its secrets is gone"

step "It is purged; its records stay"
inside apt-get purge -y -qq maple-lark >"$work/apt.log" 2>&1 || fail "$(cat "$work/apt.log")"
inside test ! -e /etc/maple-lark || fail "its configuration is still there"
is "teams in the records" 1 "$(inside runuser -u postgres -- psql -qtAc 'select count(*) from teams' maple-lark)"

step "The symbols are those of the program"
debug=$(ls -t "$target"/debian/maple-lark-dbgsym_*.deb | head -n 1)
program=$(readelf -n "$work/old/usr/bin/maple-lark" | sed -n 's/.*Build ID: //p')
dpkg-deb --contents "$debug" | grep -q "/usr/lib/debug/.build-id/${program:0:2}/${program:2}.debug" || fail "they are of another program: $(dpkg-deb --contents "$debug")"
readelf -S "$work/old/usr/bin/maple-lark" | grep -q '\.symtab' && fail "the program still carries its symbols"
echo "The package is as it should be."
