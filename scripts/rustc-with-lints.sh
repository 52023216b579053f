#!/usr/bin/env bash
# Stands in for the compiler of this workspace's crates (RUSTC_WORKSPACE_WRAPPER): compiles as it
# does and lints on the way, so that CI need not have every dependency looked at a second time.
exec clippy-driver "$@" -D warnings
