#!/usr/bin/env bash
# Builds the container and starts it beside PostgreSQL and a mail server, as the compose example says. Needs root,
# podman, runc and docker-compose. The images that are named there are made here of Debian's packages, so that no other
# image is needed.
#
#   scripts/test-container.sh TARGET            of the package that is there
#   scripts/test-container.sh TARGET --source   of the source, by the first stage, with the toolchain of this machine:
#                                               about an hour
set -euo pipefail

target=$1
[ "$(id -u)" = 0 ] || { echo "error: run this as root: it makes a Debian in a folder" >&2; exit 1; }

work=$(mktemp -d)
started=()
export CONTAINERS_CONF=$work/containers.conf DOCKER_HOST=unix://$work/engine.sock COMPOSE_PROJECT_NAME=maple-lark-test
engine() { podman --root "$work/storage" --runroot "$work/run" "$@"; }
compose() { docker-compose --file "$work/source/packaging/compose/compose.yaml" "$@"; }
end() {
  [ -z "${watch:-}" ] || kill "$watch" 2>/dev/null || true
  compose --profile init down --volumes --timeout 2 >/dev/null 2>&1 || true
  for one in "${started[@]}"; do kill -- "-$one" 2>/dev/null || true; done
  engine system reset --force >/dev/null 2>&1 || true
  rm -rf --one-file-system "$work"
}
trap end EXIT

step() { echo "● $*"; }
fail() { echo "error: $*" >&2; exit 1; }
build() { engine build --format docker --pull=never "$@" >"$work/build.log" 2>&1 || { tail -n 20 "$work/build.log" >&2; fail "it was not built"; }; }
suite=bookworm

! (exec 3<>/dev/tcp/127.0.0.1/8480) 2>/dev/null || fail "something listens at port 8480, which the example takes; end it first"

# Root need not be able to raise limits, and need not have its control groups in one tree.
cat >"$CONTAINERS_CONF" <<'CONFIGURATION'
[containers]
default_ulimits = ["nofile=4096:4096", "nproc=4096:4096"]
[engine]
runtime = "runc"
cgroup_manager = "cgroupfs"
events_logger = "file"
CONFIGURATION

# As small as the image that is named in the Containerfile.
base=$target/container-base
if [ ! -e "$base/made" ]; then
  step "Making a Debian ($suite) in $base"
  rm -rf "$base"
  mkdir -p "$base"
  debootstrap --variant=minbase "$suite" "$base/root" >"$base/log" 2>&1 || fail "debootstrap failed; see $base/log"
  touch "$base/made"
fi
step "The images that it begins with"
tar --directory "$base/root" --create . | engine import - "docker.io/library/debian:$suite-slim" >/dev/null 2>&1
mkdir "$work/postgres"
cat >"$work/postgres/start" <<'START'
#!/bin/bash
set -eu
data=/var/lib/postgresql/data
bin=$(ls -d /usr/lib/postgresql/*/bin)
as_postgres=(setpriv --reuid postgres --regid postgres --init-groups)
chown postgres: "$data" && chmod 700 "$data"
if [ ! -e "$data/PG_VERSION" ]; then
  cp "$POSTGRES_PASSWORD_FILE" /tmp/password && chown postgres: /tmp/password
  "${as_postgres[@]}" "$bin/initdb" --username postgres --pwfile /tmp/password --auth scram-sha-256 "$data"
  rm /tmp/password
  echo "host all all all scram-sha-256" >>"$data/pg_hba.conf"
fi
exec "${as_postgres[@]}" "$bin/postgres" -D "$data" -c listen_addresses='*'
START
chmod 755 "$work/postgres/start"
cat >"$work/postgres/Containerfile" <<CONTAINERFILE
FROM docker.io/library/debian:$suite-slim
RUN apt-get update && DEBIAN_FRONTEND=noninteractive apt-get install --yes --no-install-recommends postgresql
COPY start /start
ENTRYPOINT ["/start"]
CONTAINERFILE
build --tag docker.io/library/postgres:15 "$work/postgres"

# What is committed and what is new, without what was built.
mkdir "$work/source"
git ls-files --cached --others --exclude-standard -z | tar --create --null --ignore-failed-read --files-from - 2>/dev/null | tar --extract --directory "$work/source"
if [ "${2:-}" = --source ]; then
  step "An image with the toolchain of this machine"
  mkdir -p "$work/rust/toolchain"
  cp -a "$(rustc --print sysroot)/." "$work/rust/toolchain/"
  # The registries may be behind an authority that this machine alone knows.
  cp /etc/ssl/certs/ca-certificates.crt "$work/rust/authorities.crt"
  cat >"$work/rust/Containerfile" <<CONTAINERFILE
FROM docker.io/library/debian:$suite-slim
RUN apt-get update && apt-get install --yes --no-install-recommends ca-certificates gcc git libc6-dev
COPY authorities.crt /etc/ssl/certs/ca-certificates.crt
COPY toolchain /usr/local/toolchain
ENV NODE_EXTRA_CA_CERTS=/etc/ssl/certs/ca-certificates.crt
ENV PATH=/usr/local/toolchain/bin:/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin
CONTAINERFILE
  build --tag "docker.io/library/rust:1-$suite" "$work/rust"
  rm -rf "$work/rust"
  step "The image of the service, of its source"
  # What was built before is used again, if it is named.
  cached=()
  [ -z "${MAPLE_LARK_CACHE:-}" ] || cached=(--volume "$MAPLE_LARK_CACHE:/root/.cache/maple-lark")
  build "${cached[@]}" --file "$work/source/packaging/Containerfile" --tag docker.io/library/maple-lark "$work/source"
else
  package=$(ls -t "$target"/debian/maple-lark_*.deb | head -n 1)
  step "The image of the service, with $(basename "$package")"
  mkdir -p "$work/context/packages"
  cp "$package" "$work/context/packages/"
  build --build-context "build=$work/context" --file packaging/Containerfile --tag docker.io/library/maple-lark .
fi
inspected=$(engine image inspect --format '{{.Config.User}} {{.Config.Entrypoint}} {{.Config.Cmd}}' maple-lark)
[ "$inspected" = "maple-lark [maple-lark] [serve --config /etc/maple-lark/maple-lark.toml]" ] || fail "it is started as: $inspected"

step "The example: its mail server is built, database and mail server start"
setsid podman --root "$work/storage" --runroot "$work/run" system service --time 0 "$DOCKER_HOST" >"$work/engine.log" 2>&1 &
started+=($!)
for _ in $(seq 50); do [ -S "$work/engine.sock" ] && break; sleep 0.2; done
mkdir "$work/source/packaging/compose/secrets"
openssl rand -hex 24 >"$work/source/packaging/compose/secrets/postgres-password"
said() { "$@" >"$work/said" 2>&1 || { cat "$work/said" >&2; fail "\"${*}\" failed"; }; }
said compose build mail
said compose up --detach database mail
# An engine that systemd does not run looks after nobody's health by itself.
health() { engine healthcheck run "${COMPOSE_PROJECT_NAME}_$1_1" >/dev/null 2>&1; }
(while sleep 1; do health database || true; done) &
watch=$!
for _ in $(seq 60); do health database && break; sleep 1; done

step "Its first configuration, by its own account"
compose run --rm init >"$work/init" 2>&1 || { cat "$work/init" >&2; fail "it was not configured"; }
grep --quiet "assword" "$work/init" || fail "init told no password: $(cat "$work/init")"

step "It starts, and its health check is met"
said compose up --detach
kill "$watch"
for _ in $(seq 60); do health service && break; sleep 1; done
health service || fail "it is not healthy: $(compose logs service)"
curl -fsS http://127.0.0.1:8480/sign-in | grep --quiet "Maple Lark" || fail "the console is not there"

step "What it says of its place"
compose exec -T service maple-lark check --config /etc/maple-lark/maple-lark.toml >"$work/said" 2>&1 || { cat "$work/said" >&2; fail "something is wrong with its place"; }
cat "$work/said"
echo "The container is as it should be."
