# Everything a developer does here. "make demo" and "make test" are all a newcomer needs.

export CARGO_TARGET_DIR ?= $(HOME)/.cache/maple-lark/target
# Where scripts/need.sh puts a Node that is new enough, if Debian's is not.
export PATH := $(HOME)/.cache/maple-lark/node/node_modules/.bin:$(PATH)
# Most tests wait for something more often than they compute.
export RUST_TEST_THREADS ?= $(shell expr 2 '*' $$(nproc))
STATE = $$($(CARGO_TARGET_DIR)/release/maple-lark-demo --print-state)

# Everything that is built for release in one go, so that demo, benchmarks and pictures share it.
RELEASE = cargo build --release --workspace --bins --examples

.PHONY: demo demo-reset package test test-documents test-package test-container test-upgrade chaos fuzz lint lint-rest bench screenshots api console

## Start the demo: installs what is missing, builds, runs until Ctrl-C
demo:
	@scripts/need.sh run
	@$(MAKE) --no-print-directory console
	@echo "Building Maple Lark (some minutes the first time) …"
	@$(RELEASE)
	@exec $(CARGO_TARGET_DIR)/release/maple-lark-demo

## Forget all the demo has kept; the next "make demo" begins anew
demo-reset:
	@$(RELEASE) --quiet
	@scripts/demo-reset.sh "$(STATE)"

## All tests, as CI runs them
test:
	@scripts/need.sh test
	@$(MAKE) --no-print-directory console
	cd console && npm run --silent test
	cargo test --workspace --no-fail-fast

## The PDF of every report of the demo, looked at by others' checkers of PDF/UA and PDF/A
test-documents:
	@scripts/need.sh test
	@$(MAKE) --no-print-directory console
	@scripts/test-documents.sh

## The Debian package, and one with the program's symbols
package:
	@scripts/need.sh run
	@$(MAKE) --no-print-directory console
	@$(RELEASE)
	@scripts/package.sh "$(CARGO_TARGET_DIR)"

## The package in a Debian of its own: installed, started, upgraded, removed (as root)
test-package: package
	@scripts/need.sh package
	@scripts/test-package.sh "$(CARGO_TARGET_DIR)"

## The container, built of the package, configured and started beside PostgreSQL and a mail server (as root)
test-container: package
	@scripts/need.sh container
	@scripts/test-container.sh "$(CARGO_TARGET_DIR)"

## An earlier version and this one on one database, while this one takes over; REVISION names the earlier one
test-upgrade:
	@scripts/need.sh test
	@$(MAKE) --no-print-directory console
	@scripts/test-upgrade.sh "$(CARGO_TARGET_DIR)" $(REVISION)

## Everything that goes wrong in a year, about ten minutes of it; "make test" does it once
chaos:
	@scripts/need.sh test
	@$(MAKE) --no-print-directory console
	MAPLE_LARK_CHAOS=3 cargo test --package maple-lark --test e2e chaos -- --nocapture

## Every parser of what people write, fed with its own signs, for some minutes
fuzz:
	PROPTEST_CASES=20000 cargo test --release --package maple-lark-definition --lib tests::fuzz

## Formatting, lints and types
lint: lint-rest
	cargo clippy --workspace --all-targets -- -D warnings

# What is left of them where the tests were compiled with scripts/rustc-with-lints.sh.
lint-rest:
	cargo fmt --all --check
	cargo clippy --package maple-lark --no-default-features -- -D warnings
	scripts/unused-dependencies.sh
	cd console && npm run check

## Speed and memory, as ratios against a browser in the same run
bench:
	@scripts/need.sh test
	@$(MAKE) --no-print-directory console
	$(RELEASE)
	$(CARGO_TARGET_DIR)/release/examples/bench

## The pictures in docs/screenshots, from a running demo
screenshots:
	@scripts/need.sh test
	$(RELEASE)
	@scripts/screenshots.sh "$(STATE)"

## docs/openapi.json and the console's types, from the handlers
api:
	cargo build --workspace --tests
	$(CARGO_TARGET_DIR)/debug/maple-lark openapi > docs/openapi.json
	cd console && npm run types

# The service is compiled anew only if the console is another.
console: console/dist/index.html

console/dist/index.html: console/node_modules docs/openapi.json $(shell find console -type f -not -path "*/node_modules/*" -not -path "*/dist/*" -not -name schema.ts)
	@cd console && npm run --silent build

console/node_modules: console/package-lock.json
	@echo "Fetching the console's packages …"
	@cd console && npm ci --no-audit --no-fund --silent && touch node_modules
