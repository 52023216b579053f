#!/usr/bin/env bash
# Takes every picture in docs/screenshots from the running demo: console, mail and HTML by a
# browser, the PDF by pdftoppm, the command line in a terminal window under Xvfb.
set -euo pipefail
cd "$(dirname "$0")/.."
state=$1
out=docs/screenshots
port=${MAPLE_LARK_DEMO_PORT:-8480}
for command in Xvfb xterm import montage pdftoppm chromedriver; do
  command -v "$command" >/dev/null || { echo "error: $command is missing; apt-get install xvfb xterm imagemagick poppler-utils chromium-driver" >&2; exit 1; }
done
[ -x "$state/maple-lark" ] || { echo "error: the demo is not there; start it with \"make demo\" first" >&2; exit 1; }
mkdir -p "$out"
work=$(mktemp -d)
pids=()
finish() {
  for pid in "${pids[@]}"; do kill "$pid" 2>/dev/null || true; done
  rm -rf "$work"
}
trap finish EXIT

chromedriver --port=9515 >/dev/null 2>&1 & pids+=($!)
sleep 1
"$CARGO_TARGET_DIR/release/examples/screenshots" "http://127.0.0.1:$port" "$(cat "$state/admin-password")" "$out"

run=$("$state/maple-lark" runs --report ferry-operations-daily --state delivered --output json | node -p 'JSON.parse(require("fs").readFileSync(0)).items[0].id')
"$state/maple-lark" download "$run" --format pdf --into "$work" >/dev/null
pdf=$(find "$work" -maxdepth 1 -name '*.pdf' | grep -v havnes | head -n 1)
pdftoppm -r 96 -png -f 1 -l 1 "$pdf" "$work/page"
cp "$work/page-1.png" "$out/pdf-page-1.png"
for report in service-promises disks-full kiosk-inventory harbours.weekly; do
  made=$("$state/maple-lark" run "$report" --no-delivery --output json | node -p 'JSON.parse(require("fs").readFileSync(0)).id')
  "$state/maple-lark" download "$made" --format pdf --into "$work/$report" >/dev/null
done
for report in service-promises disks-full kiosk-inventory; do
  pdftoppm -r 80 -png -f 1 -l 1 -singlefile "$work/$report/"*.pdf "$work/$report"
done
montage "$work/service-promises.png" "$work/disks-full.png" "$work/kiosk-inventory.png" -mode concatenate -tile 3x1 "$out/pdf-promises.png"
pdftoppm -r 96 -png -f 1 -l 1 -singlefile "$work/harbours.weekly/"*.pdf "$out/pdf-live-page"

Xvfb :97 -screen 0 1280x800x24 >/dev/null 2>&1 & pids+=($!)
sleep 1
cat > "$work/session" <<SESSION
printf '\$ maple-lark run database-server-health\n'; "$state/maple-lark" run database-server-health
printf '\n\$ maple-lark check --config maple-lark.toml\n'; "$state/maple-lark" check --config "$state/maple-lark.toml"
sleep 30
SESSION
DISPLAY=:97 xterm -geometry 140x44+0+0 -fa 'DejaVu Sans Mono' -fs 11 -bg '#0f181e' -fg '#e5ecf0' -e bash "$work/session" & pids+=($!)
sleep 8
DISPLAY=:97 import -window root "$out/command-line.png"
echo "command-line.png"
