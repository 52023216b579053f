#!/usr/bin/env bash
# Fails if a crate names a dependency that none of its Rust files uses.
set -euo pipefail
cd "$(dirname "$0")/.."
failed=0
for manifest in crates/*/Cargo.toml crates/core/*/Cargo.toml; do
  folder=$(dirname "$manifest")
  names=$(awk '/^\[/ { on = ($0 ~ /dependencies\]$/) } on && match($0, /^[a-z0-9_-]+/) { print substr($0, 1, RLENGTH) }' "$manifest" | sort -u)
  for name in $names; do
    if ! grep -rqw --include='*.rs' "${name//-/_}" "$folder"; then
      echo "$manifest: \"$name\" is not used"
      failed=1
    fi
  done
done
exit $failed
