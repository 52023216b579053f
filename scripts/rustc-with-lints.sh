#!/usr/bin/env bash
# Compiles a crate of this workspace in place of the compiler (RUSTC_WORKSPACE_WRAPPER) and lints it on the way;
# a warning is an error.
exec clippy-driver "$@" -D warnings
