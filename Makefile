# Two commands do everything on a fresh Debian machine with Go and Node:
#   make demo    builds, starts central with its own PostgreSQL, plays a short story and stays up
#   make test    builds and runs all tests against a real PostgreSQL and a real browser

SHELL := /bin/bash
LISTEN ?= 127.0.0.1:0
DATA ?= .demo

console_sources := $(shell find console/src console/public faces -type f -not -name '*.gen.ts' 2>/dev/null) console/index.html console/vite.config.ts console/tsconfig.json

client_sources := $(shell find clients/typescript/src -type f 2>/dev/null) clients/typescript/build.mjs clients/typescript/tsconfig.json

field_sources := $(shell find field/src field/public faces -type f 2>/dev/null) field/index.html field/vite.config.ts field/tsconfig.json

.PHONY: demo demo-once test build console field client check bench clean

demo: build
	@bin/homing demo --listen $(LISTEN) --data $(DATA)

demo-once: build
	@bin/homing demo --once --listen $(LISTEN) --data $(DATA)

# Tests save thousands of times, each time down to the disk. They do that in memory where there is much of it.
in_memory := $(shell room=$$(df --output=avail -k /dev/shm 2>/dev/null | tail -1); [ "$${room:-0}" -gt 8000000 ] && echo /dev/shm)

# What takes minutes begins first: at the end, nothing is waited for while a processor idles.
long_tests := ./console ./promises ./field ./clients/typescript ./internal/cli ./rehearse

test: export TMPDIR := $(or $(in_memory),$(TMPDIR),/tmp)
test: build check client
	@scripts/need chromium gcc
	@echo "Testing in $$TMPDIR"
	go vet ./...
	go tool staticcheck ./...
	go test -race -count=1 ./link ./central/changes
	go test -count=1 -timeout 20m $(long_tests) ./...

# All that has goroutines, looked at for races. SQLite takes minutes to compile for it, so make test looks at what does
# without.
.PHONY: race
race: build
	@scripts/need gcc
	go test -race -count=1 -timeout 60m ./link ./central/... ./cluster ./device/... ./web ./service

build: console field
	@scripts/need go postgresql
	@echo "Building bin/homing"
	@go build -o bin/homing ./cmd/homing

console: console/dist/index.html

# The console's types come from the service's own description of its API.
console/openapi.gen.json: $(shell find web wire central core -name '*.go' -not -name '*_test.go') go.mod
	@scripts/need go
	@go run ./cmd/homing openapi > $@.tmp && mv $@.tmp $@

console/node_modules/.package-lock.json: console/package.json console/package-lock.json
	@scripts/need node
	@echo "Installing the console's packages (npm ci)"
	@cd console && npm ci --no-fund --no-audit --loglevel=error && touch node_modules/.package-lock.json

console/src/api/schema.gen.ts: console/openapi.gen.json console/node_modules/.package-lock.json
	@cd console && npm run --silent types >/dev/null

console/dist/index.html: console/src/api/schema.gen.ts $(console_sources)
	@echo "Building the console"
	@cd console && npm run --silent build -- --logLevel=warn && touch dist/.keep

# The field app, over the device in TypeScript.
field: field/dist/index.html

field/node_modules/.package-lock.json: field/package.json field/package-lock.json
	@scripts/need node
	@echo "Installing the field app's packages (npm ci)"
	@cd field && npm ci --no-fund --no-audit --loglevel=error && touch node_modules/.package-lock.json

field/dist/index.html: field/node_modules/.package-lock.json clients/typescript/dist/driver.js $(field_sources)
	@echo "Building the field app"
	@cd field && npm run --silent build -- --logLevel=warn && touch dist/.keep

# The device in TypeScript.
client: clients/typescript/dist/driver.js

clients/typescript/node_modules/.package-lock.json: clients/typescript/package.json clients/typescript/package-lock.json
	@scripts/need node
	@echo "Installing the TypeScript client's packages (npm ci)"
	@cd clients/typescript && npm ci --no-fund --no-audit --loglevel=error && touch node_modules/.package-lock.json

clients/typescript/dist/driver.js: clients/typescript/node_modules/.package-lock.json $(client_sources)
	@echo "Building the TypeScript client"
	@cd clients/typescript && npm run --silent build && touch dist/driver.js

check: console/src/api/schema.gen.ts field/node_modules/.package-lock.json clients/typescript/node_modules/.package-lock.json
	@echo "Checking the console's types"
	@cd console && npm run --silent check
	@echo "Checking the field app's types"
	@cd field && npm run --silent check
	@echo "Checking the TypeScript client's types"
	@cd clients/typescript && npm run --silent check

# Longer than make test: kills and cuts for SOAK, a stream of readings for as long, then as many simulated fleets as SEEDS says, half as many with devices in Node
# and a hundredth with devices in Chromium among ours.
SOAK ?= 5m
SEEDS ?= 10000
.PHONY: soak
soak: build client
	@go test ./promises -count=1 -timeout 2h -run 'TestSoak' -v -soak $(SOAK) | grep -v '^=== '
	@go test ./rehearse -count=1 -timeout 4h -run 'TestSeeds$$' -v -seeds $(SEEDS) | grep -v '^=== '
	@bin/homing conform --driver "node clients/typescript/dist/driver.js" --part fleets --seeds $$(($(SEEDS) / 2))
	@bin/homing conform --driver "node clients/typescript/dist/chromium.js" --part fleets --seeds $$(($(SEEDS) / 100 + 1))

# Each fuzz test for FUZZ. Their inputs are not made smaller: with a service and a database around them, the same input does not always take the
# same way, and the fuzzer would try for ever.
FUZZ ?= 1m
.PHONY: fuzz
fuzz: build
	@set -o pipefail; grep -rl --include='*_test.go' '^func Fuzz' . | xargs -n 1 dirname | sort -u | while read -r folder; do \
		go test $$folder -list '^Fuzz' | grep '^Fuzz' | while read -r name; do \
			echo "$$folder $$name"; go test $$folder -run xx -fuzz "^$$name\$$" -fuzztime $(FUZZ) -fuzzminimizetime 1x | { grep -v level= || true; } | tail -15 | grep -v '^fuzz: ' || exit 1; \
		done || exit 1; \
	done

bench: build client
	@go run ./bench

clean:
	@if [ -f $(DATA)/postgresql/elsewhere ]; then rm -rf "$$(cat $(DATA)/postgresql/elsewhere)"; fi
	rm -rf bin $(DATA) clients/typescript/dist console/openapi.gen.json console/src/api/schema.gen.ts
	find console/dist field/dist -mindepth 1 -not -name .keep -delete

.PHONY: screenshots
screenshots: build
	@scripts/need chromium
	go run ./internal/screenshots
