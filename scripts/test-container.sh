#!/usr/bin/env bash
# Builds the container from the package that is there, and starts service, PostgreSQL and mail server in it. Needs
# root and buildah; the Debian that the image begins with is made here, so that no other image is needed.
set -euo pipefail

target=$1
[ "$(id -u)" = 0 ] || { echo "error: run this as root: it makes a Debian in a folder" >&2; exit 1; }

work=$(mktemp -d)
started=()
end() {
  for one in "${started[@]}"; do kill -9 "-$one" 2>/dev/null || true; done
  builder rm --all >/dev/null 2>&1 || true
  rm -rf --one-file-system "$work"
}
trap end EXIT

step() { echo "● $*"; }
fail() { echo "error: $*" >&2; exit 1; }
builder() { buildah --storage-driver vfs --root "$work/images" --runroot "$work/run" "$@"; }
suite=bookworm

# As small as the image that is named in the Containerfile.
base=$target/container-base
if [ ! -e "$base/made" ]; then
  step "Making a Debian ($suite) in $base"
  rm -rf "$base"
  mkdir -p "$base"
  debootstrap --variant=minbase "$suite" "$base/root" >"$base/log" 2>&1 || fail "debootstrap failed; see $base/log"
  touch "$base/made"
fi
step "The image that it begins with"
empty=$(builder from scratch)
builder copy --quiet "$empty" "$base/root" / >/dev/null
builder commit --quiet "$empty" "debian:$suite-slim" >/dev/null

package=$(ls -t "$target"/debian/maple-lark_*.deb | head -n 1)
step "The image of the service, with $(basename "$package")"
mkdir -p "$work/context/packages"
cp "$package" "$work/context/packages/"
builder build --isolation chroot --format docker --pull=never --layers=false --build-context "build=$work/context" \
  --file packaging/Containerfile --tag maple-lark . >"$work/build.log" 2>&1 || { tail -n 20 "$work/build.log" >&2; fail "it was not built"; }
inspected=$(builder inspect --type image --format '{{.OCIv1.Config.User}} {{.OCIv1.Config.Entrypoint}} {{.OCIv1.Config.Cmd}}' maple-lark)
[ "$inspected" = "maple-lark [maple-lark] [serve --config /etc/maple-lark/maple-lark.toml]" ] || fail "it is started as: $inspected"

# A database beside it, on a port of loopback.
postgres=$(ls -d /usr/lib/postgresql/*/bin | tail -n 1)
chmod 755 "$work"
mkdir "$work/records"
chown postgres: "$work/records"
port=$((20000 + $$ % 10000))
as_postgres() { setpriv --reuid postgres --regid postgres --init-groups -- "$@"; }
as_postgres "$postgres/initdb" --auth trust --username postgres "$work/records" >/dev/null
setsid setpriv --reuid postgres --regid postgres --init-groups -- "$postgres/postgres" -D "$work/records" -p "$port" -c listen_addresses=127.0.0.1 -c unix_socket_directories= >"$work/postgres.log" 2>&1 &
started+=($!)
for _ in $(seq 100); do as_postgres "$postgres/pg_isready" --quiet --host 127.0.0.1 --port "$port" && break; sleep 0.2; done

step "Its first configuration, by its own account"
container=$(builder from --pull-never maple-lark)
run() { builder run --isolation chroot --user maple-lark "$container" -- "$@"; }
listen=127.0.0.1:$((port + 1))
password=$(run maple-lark init --output json --folder /etc/maple-lark --administer "postgresql://postgres@127.0.0.1:$port/postgres" --listen "$listen" | sed -n 's/.*"password": *"\([^"]*\)".*/\1/p')
[ -n "$password" ] || fail "init told no password"

step "It starts, and its health check is met"
setsid bash -c "$(declare -f builder run); work='$work' container='$container'; run maple-lark serve --config /etc/maple-lark/maple-lark.toml" >"$work/service.log" 2>&1 &
started+=($!)
healthy() { run bash -c "exec 3<>/dev/tcp/127.0.0.1/$((port + 1)) && printf 'GET /ready HTTP/1.0\r\n\r\n' >&3 && head --lines=1 <&3 | grep --quiet ' 200 '" 2>/dev/null; }
for _ in $(seq 60); do healthy && break; sleep 0.5; done
healthy || fail "it is not healthy: $(cat "$work/service.log")"
curl -fsS "http://$listen/sign-in" | grep -q "Maple Lark" || fail "the console is not there"
echo "The container is as it should be."
