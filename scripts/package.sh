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
"$target/release/maple-lark" manual "$made/man" >/dev/null
for shell in bash:maple-lark zsh:_maple-lark fish:maple-lark.fish; do
  "$target/release/maple-lark" completions "${shell%%:*}" > "$made/completions/${shell##*:}"
done
gzip -9n "$made"/man/*.1
package=$(cargo deb --quiet --package maple-lark --no-build --strip --output "$folder")

# What was stripped from the program, found by debuggers by its build identifier.
id=$(readelf --notes "$target/release/maple-lark" | sed -n 's/.*Build ID: //p')
symbols=$made/symbols
mkdir -p "$symbols/usr/lib/debug/.build-id/${id:0:2}" "$symbols/DEBIAN"
objcopy --only-keep-debug "$target/release/maple-lark" "$symbols/usr/lib/debug/.build-id/${id:0:2}/${id:2}.debug"
version=$(dpkg-deb --field "$package" Version)
architecture=$(dpkg-deb --field "$package" Architecture)
cat > "$symbols/DEBIAN/control" <<CONTROL
Package: maple-lark-dbgsym
Version: $version
Architecture: $architecture
Maintainer: $(dpkg-deb --field "$package" Maintainer)
Section: debug
Priority: optional
Depends: maple-lark (= $version)
Description: Symbols of maple-lark
 For debuggers and traces: the names of the program's functions.
CONTROL
dpkg-deb --root-owner-group --build "$symbols" "$folder/maple-lark-dbgsym_${version}_$architecture.deb" >/dev/null
ls -1sh "$package" "$folder/maple-lark-dbgsym_${version}_$architecture.deb"
