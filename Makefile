# Rockrose: build, try, test. `make demo` and `make test` are all a new machine needs.

SHELL := /bin/bash
.DELETE_ON_ERROR:
.PHONY: agent demo test bench bench-quick fmt lint console build package install tools clean
.NOTPARALLEL:

TARGET := $(if $(CARGO_TARGET_DIR),$(CARGO_TARGET_DIR),target)

demo: console ## Build (release) and run the service with the ferry line's demo
	cargo build --release --locked -p rockrose-cli
	@exec $(TARGET)/release/rockrose demo

test: tools lint ## Everything: formatting, lints, types, unit and property tests, the real binary, the browser
	cargo build --locked --workspace --all-targets
	ROCKROSE_BIN="$(abspath $(TARGET))/debug/rockrose" cargo test --locked --workspace

bench: console ## Measure against floors taken in the same run (a few minutes)
	cargo build --release --locked -p rockrose-cli
	cargo run --release --locked -p rockrose-bench -- full

bench-quick: console ## The same, in under a minute once all is built
	cargo build --release --locked -p rockrose-cli
	cargo run --release --locked -p rockrose-bench -- quick

fmt: ## Format the Rust code
	cargo fmt --all

lint: console
	cargo fmt --all --check
	cargo clippy --locked --workspace --all-targets -- -D warnings
	cd console && npm run --silent lint

console: console/node_modules/.ready ## Build the console's files
	cd console && npm run --silent build

console/node_modules/.ready: console/package-lock.json
	@./tools/setup.sh build
	cd console && npm ci --silent
	@touch $@

build: console
	cargo build --release --locked -p rockrose-cli

# The Rust name of this machine; agents are built for it, and need no library of it.
HOST := $(shell rustc -vV 2>/dev/null | sed -n 's/^host: //p')

agent: ## Build the agent alone, small and static, for hosts: rockrose serve --agent-program FILE gives it to them
	RUSTFLAGS="-C target-feature=+crt-static -C relocation-model=static" cargo rustc --locked --profile agent --target $(HOST) -p rockrose-cli --no-default-features -- -C link-arg=-Wl,--icf=all
	@echo "$(abspath $(TARGET))/$(HOST)/agent/rockrose"

PREFIX ?= /usr/local

install: build ## Install the release build below PREFIX (/usr/local)
	./tools/install.sh "$(PREFIX)" "$(DESTDIR)"

package: build agent ## Make a tarball and a Debian package, in target/package
	@./tools/setup.sh package
	./tools/package.sh

tools: ## Install what is missing, or say what to install
	@./tools/setup.sh test

clean:
	cargo clean
	rm -rf console/dist console/node_modules
