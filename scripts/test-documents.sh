#!/usr/bin/env bash
# Makes the PDF of every report of the demo and has it checked by others' tools: two checkers of PDF/UA-1,
# one of PDF/A-3a. They come from the Python package registry into a folder of their own.
set -euo pipefail
cd "$(dirname "$0")/.."

tools="${XDG_CACHE_HOME:-$HOME/.cache}/maple-lark/checkers"
if ! "$tools/bin/python" -c 'import page, outloud' 2>/dev/null; then
  python3 -m venv "$tools" \
    || { echo "error: the checkers need a Python environment of their own; apt-get install python3-venv" >&2; exit 1; }
  "$tools/bin/pip" install --quiet --disable-pip-version-check page-validation==0.11.0 outloud==0.2.1 \
    || { echo "error: the checkers page-validation and outloud could not be installed; is the Python package registry reached?" >&2; exit 1; }
fi

documents=$(mktemp -d)
trap 'rm -rf "$documents"' EXIT
MAPLE_LARK_DOCUMENTS="$documents" cargo test --workspace --quiet --test e2e every_report_of_the_demo
"$tools/bin/python" scripts/check_documents.py "$documents"
