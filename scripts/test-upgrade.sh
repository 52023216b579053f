#!/usr/bin/env bash
# Builds the program of an earlier version and lets it work beside this one on one database, while this one takes
# over. Usage: test-upgrade.sh TARGET-DIR [REVISION]; without a revision it is the last one before the newest step
# of the schema.
set -euo pipefail
cd "$(dirname "$0")/.."
target=$1
revision=${2:-$(git log -1 --format=%H -- crates/store/src/migrations)^}
revision=$(git rev-parse --verify --quiet "$revision^{commit}") || { echo "error: there is no revision ${2:-before the newest step of the schema}; name one that git knows" >&2; exit 1; }
before="$target/before"
work=$(mktemp -d)
trap 'git worktree remove --force "$work/tree" >/dev/null 2>&1 || true; rm -rf "$work"' EXIT

echo "The version before is $(git log -1 --format='%h of %cs: %s' "$revision")"
git worktree add --quiet --detach "$work/tree" "$revision"
(
  cd "$work/tree"
  make --no-print-directory console
  # Its own folder: what it is built of is of another version.
  CARGO_TARGET_DIR="$before" cargo build --quiet --package maple-lark --bin maple-lark
)
MAPLE_LARK_BEFORE="$before/debug/maple-lark" cargo test --workspace --test e2e upgrading -- --ignored
