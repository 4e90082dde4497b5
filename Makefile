# make build        bin/hmule, with the console in it
# make demo         builds what is missing and opens Saltmarrow Harbour
# make check        formatting, types, and the tests of the heart: about a minute
# make test         one bounded case of each class of tests; needs what it installs itself
# make lint         formatting, vet, staticcheck, types, ESLint
# make bench        measurements beside their baselines, in one run; SCENARIOS="lives bulks" for some,
#                   DIR for the disk that is measured
# make performance  the same, written into docs/performance.md
# make soak         the long rest: kills for ten minutes, cuts at every write, hostile clients,
#                   and make test twenty times while both cores are busy: some eight hours
# make screenshots  the pictures of docs/screenshots, from the demo

SHELL := /bin/bash
.SHELLFLAGS := -eu -o pipefail -c
.DEFAULT_GOAL := build
.PHONY: build demo check test lint bench performance soak screenshots need-go need-node need-python need-chromium need-terminal need-postgres

GO_FILES := $(shell find . -name '*.go' -not -path './console/node_modules/*') go.mod go.sum internal/core/store/schema/*.sql internal/server/openapi.yaml
CONSOLE_FILES := $(shell find console/src console/public -type f -not -name 'schema.d.ts') $(wildcard console/*.json console/*.ts console/*.html)
VERSION := 0.1.0

need-go:
	@command -v go >/dev/null || { echo "Go 1.26 or newer is needed; see go.dev/doc/install"; exit 1; }
	@command -v gcc >/dev/null || $(call install,a C compiler for SQLite,gcc libc6-dev)

need-node:
	@command -v npm >/dev/null || $(call install,Node.js for the console,nodejs npm)

need-python:
	@command -v python3 >/dev/null || $(call install,Python for the example of a worker,python3)

need-chromium:
	@command -v chromium >/dev/null || $(call install,Chromium for the tests of the console,chromium)

need-postgres:
	@ls /usr/lib/postgresql/*/bin/initdb >/dev/null 2>&1 || $(call install,PostgreSQL to measure beside,postgresql)

need-terminal: need-chromium
	@command -v xterm >/dev/null && command -v Xvfb >/dev/null && command -v import >/dev/null || $(call install,a terminal window for the pictures,xvfb xterm imagemagick fonts-dejavu-core)

# install says what it is about to install and why, then does it.
define install
{ echo "Installing $(1): $(2)"; S=; [ "$$(id -u)" = 0 ] || S="sudo -n"; \
  $$S apt-get update -qq && $$S env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $(2) >/dev/null || \
  { echo "It could not be installed; as root: apt-get install $(2)"; exit 1; }; }
endef

console/node_modules/.installed: console/package-lock.json console/.npmrc | need-node
	@echo "Installing the console's packages"
	@cd console && npm ci --silent && touch node_modules/.installed

internal/console/dist/index.html: console/node_modules/.installed $(CONSOLE_FILES) internal/server/openapi.yaml
	@echo "Building the console"
	@cd console && npm run --silent build
	@touch $@

bin/hmule: $(GO_FILES) internal/console/dist/index.html | need-go
	@echo "Building bin/hmule (the first time SQLite is compiled too, about a minute)"
	@go build -tags nomsgpack -ldflags "-X humblemule.example/internal/cli.Version=$(VERSION)" -o bin/hmule ./cmd/hmule

build: bin/hmule

demo: bin/hmule
	@exec bin/hmule demo

lint: console/node_modules/.installed | need-go
	@echo "Checking formatting, vet, staticcheck, types and ESLint (the first time staticcheck is fetched and built)"
	@wrong=$$(gofmt -l $$(git ls-files '*.go')); [ -z "$$wrong" ] || { echo "not formatted by gofmt: $$wrong"; exit 1; }
	@go vet ./...; cd bench; go vet ./...
	@go tool -modfile=tools/go.mod staticcheck ./...
	@cd console && npm run --silent check

test: lint internal/console/dist/index.html need-chromium need-python
	@echo "Running the tests under the race detector"
	@go test -race -timeout 20m ./...
	@echo "Running the model test in its full length, without the race detector"
	@go test -run '^TestModel$$' ./internal/core/engine

check: lint
	@go test -short . ./api ./job ./internal/... ./client ./worker/...

bench: bin/hmule need-postgres
	@cd bench && go run . -hmule ../bin/hmule -dir $(or $(DIR),/var/tmp) $(SCENARIOS)

# What each scenario of docs/performance.md is measured with.
performance: bin/hmule need-postgres
	@cd bench && for s in $(or $(SCENARIOS),lives slow basic bulks pools idle growth orders acts dead retention later rebuild); do \
	  more=; case $$s in growth) more="-backlog 10000000 -rounds 3";; later) more="-backlog 100000";; esac; \
	  go run . -hmule ../bin/hmule -dir $(or $(DIR),/var/tmp) -write ../docs/performance.md $$more $$s; done

soak: internal/console/dist/index.html need-go need-chromium need-python
	@go test -race -count=1 -timeout 30m -v -run TestSoak ./e2e -soak 10m
	@go test -race -count=1 -timeout 30m -v -run TestHostileClients ./e2e -hostile 10m -hostile.seed $$RANDOM
	@go test -race -count=1 -timeout 60m ./internal/core/engine -long
	@go test -count=1 -timeout 60m -v -run TestCuts ./internal/core/store/faultfs -cuts.every 1
	@busy=(); trap 'kill $${busy[@]}' EXIT; for core in 1 2; do nice bash -c "while :; do :; done" & busy+=($$!); done; \
	for round in $$(seq 20); do echo "Round $$round of 20"; nice go test -race -count=1 -timeout 40m ./...; done

screenshots: bin/hmule need-terminal
	@go run ./e2e/screenshots
