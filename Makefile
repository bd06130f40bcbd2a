# Everything a newcomer types. Each target does its own set-up.
.PHONY: demo test lint build console bench fuzz stress readers screenshots package package-check openapi

export PATH := $(PATH):/usr/sbin:/sbin

demo: build
	@scripts/demo

# The first build keeps nothing for the next one: that would cost it a tenth of its time. Console and images are made beside
# it, while the compiler has one crate left.
build:
	@scripts/setup demo
	@[ -d target/debug ] || export CARGO_INCREMENTAL=0; $(MAKE) console demo/images/.made & beside=$$!; cargo build --workspace --bins && wait $$beside

console: console/dist/index.html

console/node_modules/.made: console/package.json console/package-lock.json
	cd console && npm ci --no-audit --no-fund
	@touch $@

console/dist/index.html: console/node_modules/.made docs/openapi.json $(shell find console/src console/index.html console/*.ts console/*.js -type f 2>/dev/null)
	cd console && npm run --silent build
	@touch $@

demo/images/.made: demo/make-images $(wildcard demo/sheets/*.toml)
	@scripts/setup demo
	rm -rf demo/images
	demo/make-images demo/images
	@touch $@

lint: console/node_modules/.made
	@scripts/setup demo
	cargo fmt --all --check
	cargo clippy --workspace --all-targets --features testbed/programs -- -D warnings
	cd console && npm run --silent lint

# Lints run beside the first tests: those wait for disks and clocks, lints for the compiler.
test:
	@scripts/setup test
	$(MAKE) console demo/images/.made
	cargo build --workspace --all-targets
	@cargo test --workspace & tests=$$!; sleep 20; $(MAKE) lint || { kill $$tests; exit 1; }; wait $$tests

bench:
	@scripts/setup test
	$(MAKE) demo/images/.made
	cargo build --release --workspace --bins --features testbed/programs
	target/release/bench $(PARTS)

# Damaged seeds through every parser; `make test` runs the same with fewer rounds.
fuzz:
	FUZZ_ROUNDS=$${FUZZ_ROUNDS:-3000} cargo test --workspace --test fuzz
	FUZZ_ROUNDS=$${FUZZ_ROUNDS:-3000} cargo test --workspace --test whole fuzz::

# Real card readers, as far as a computer has them without hands: a virtual machine in which emulated USB
# readers are plugged, pulled and changed under the service. Its report is kept in docs/readers.txt.
readers:
	@scripts/setup readers
	$(MAKE) demo/images/.made
	cargo build --workspace --bins --features testbed/programs
	target/debug/readers target/readers/kernel
	cp target/readers/report.txt docs/readers.txt

# The model of the job played for long, service and database killed at random moments of import, write,
# backup and restore; writes at a bench on another computer, its line, worker and service cut and killed; then cards that lie, in many more cases than `make test` tries.
stress:
	@scripts/setup test
	$(MAKE) console demo/images/.made
	cargo build --workspace --bins --features testbed/programs
	target/debug/stress $${STRESS_MINUTES:-30} $${STRESS_KILLS:-100}
	PROPTEST_CASES=$${STRESS_CASES:-20000} cargo test --workspace --test verified_is_right
	PROPTEST_CASES=$${STRESS_CHECKS:-300} cargo test --workspace --test checks
	PROPTEST_CASES=$${STRESS_EDITS:-40} cargo test --workspace --test ext_edits

screenshots:
	@scripts/setup screenshots
	$(MAKE) console demo/images/.made
	cargo build --workspace --bins --features testbed/programs
	target/debug/screenshots

# Debian packages of everything, in target/package.
package:
	@scripts/setup demo
	$(MAKE) console
	cargo build --release --workspace --bins
	scripts/package release target/package

# The packages installed in a clean root, a card written there, upgraded, removed. As root.
package-check:
	@scripts/setup package
	$(MAKE) package demo/images/.made
	scripts/check-package target/package release

# After a change of the interface: the document that the console's types are made from.
openapi:
	cargo build --workspace --bins
	target/debug/duplicariumd --openapi > docs/openapi.json
