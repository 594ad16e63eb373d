# Dusty Ferry. 'make help' explains every target.
SHELL := /bin/bash
.DEFAULT_GOAL := help
GO ?= go

help: ## Show this help
	@awk -F':.*## ' '/^[a-z-]+:.*## / {printf "  %-12s %s\n", $$1, $$2}' $(MAKEFILE_LIST)

setup: ## Install what is missing: Debian packages, Go modules, npm packages
	@scripts/setup

console: setup ## Build the web console (skipped when nothing changed)
	@scripts/build-console

build: console ## Build bin/dustyferry with the console in it
	@$(GO) build -o bin/dustyferry ./cmd/dustyferry
	@echo "bin/dustyferry is built"

demo: build ## The main job on demo data: a live database moves to a new server
	@bin/dustyferry demo --unattended

demo-hand: build ## The demo, for you to drive by hand
	@bin/dustyferry demo

lint: console ## Check formatting, vet, staticcheck, TypeScript, eslint, prettier
	@scripts/lint

test: build ## Everything: lint, unit tests (with the race detector where anything runs at once), end to end, console
	@$(MAKE) --no-print-directory -j2 -O lint unit
	DUSTYFERRY_TEST_BINARY=$(CURDIR)/bin/dustyferry $(GO) test -vet=off -count=1 -timeout 45m ./test ./test/hunt

unit: ## The tests that need no built program
	$(GO) test -vet=off ./internal/domain/... ./internal/core/... ./internal/protocol/...
	$(GO) test -vet=off -race $$($(GO) list ./internal/... | grep -vE '/internal/(domain|core|protocol)(/|$$)') ./client ./cmd/... ./test/rooms

quick: ## The inner loop, under a minute: formatting, vet, core, protocols and rooms of the work
	@scripts/quick

MINUTES ?= 30
SEED ?= 0
BINARY ?= $(CURDIR)/bin/dustyferry
PAIRS ?= pp,mm,mp,pm

hunt: build ## Random scripts against real servers, judged by plain SQL: MINUTES=30 SEED=… BINARY=… PAIRS=pp,mm,mp,pm
	$(GO) test -count=1 -timeout 0 -run 'TestHunt$$' ./test/hunt -hunt.minutes=$(MINUTES) -hunt.seed=$(SEED) -hunt.pairs=$(PAIRS) -hunt.binary=$(abspath $(BINARY))

HISTORIES ?= 100000

histories: ## The follow machine against a model, by random histories: HISTORIES=100000
	$(GO) test -count=1 -timeout 0 ./internal/core/follow -follow.histories=$(HISTORIES)

versions: build ## A whole crossing under writes, for every pair of PostgreSQL versions
	DUSTYFERRY_ALL_VERSIONS=1 $(GO) test -count=1 -timeout 60m -run 'TestAllVersions$$' ./test

soak: build ## Twenty minutes of transfers under random faults; its account goes to docs/soak.md
	@scripts/soak

bench: build ## Measure the hot paths beside their physical limits
	@for b in bench/*.sh; do echo "== $$b"; bash $$b || exit 1; done

screenshots: build ## Take the pictures in docs/screenshots anew
	@scripts/screenshots

.PHONY: help setup console build demo demo-hand lint quick test unit hunt histories versions soak bench screenshots
