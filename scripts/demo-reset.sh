#!/usr/bin/env bash
# Removes what the demo has kept. Only a folder that the demo has made is touched.
set -euo pipefail

state=$1
if [ ! -d "$state" ]; then
  echo "There is nothing to forget in $state."
  exit 0
fi
if [ ! -f "$state/postgresql-password" ]; then
  echo "error: $state was not made by the demo; it is left alone" >&2
  exit 1
fi
if [ -f "$state/postgresql/postmaster.pid" ] && kill -0 "$(head -n 1 "$state/postgresql/postmaster.pid")" 2>/dev/null; then
  echo "error: the demo is running; stop it with Ctrl-C first" >&2
  exit 1
fi
rm -rf "$state"
echo "Forgotten: $state. \"make demo\" begins anew."
