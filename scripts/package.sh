#!/usr/bin/env bash
# The Debian package and that with its symbols, from what is built for release, into a folder.
set -euo pipefail

target=$1
folder=${2:-$target/debian}
cargo deb --version >/dev/null 2>&1 || {
  echo "Fetching the tool that makes the package …"
  cargo install --quiet --locked cargo-deb
}

made=$target/release/package
rm -rf "$made"
mkdir -p "$made/man" "$made/completions" "$folder"
"$target/release/maple-lark" manual "$made/man"
for shell in bash:maple-lark zsh:_maple-lark fish:maple-lark.fish; do
  "$target/release/maple-lark" completions "${shell%%:*}" > "$made/completions/${shell##*:}"
done
cargo deb --quiet --package maple-lark --no-build --dbgsym --output "$folder"
ls -1sh "$folder"/*.deb
