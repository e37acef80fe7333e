# Neighbour's own commands. Each does its set-up itself.

GO      ?= go
BIN     := bin/neighbour
STATIC  := honnef.co/go/tools/cmd/staticcheck@v0.8.2

.PHONY: build demo trouble test faults fuzz bench lint screenshots testshare docs clean

build: ; $(GO) build -o $(BIN) ./cmd/neighbour

# The full-screen map on the running Toolshed.
demo: build ; $(BIN) demo
trouble: build ; $(BIN) demo --trouble

# Everything but the faults. Installs the Debian packages that the tests need
# where it can.
test:
	scripts/packages.sh test
	$(GO) test -race -timeout 25m -skip '^TestFaults$$' ./...

# What goes wrong around keepers, services and machines, with real processes:
# the fault, what is promised, and what was found when it was first tried.
faults:
	scripts/packages.sh test
	$(GO) test -race -timeout 15m -count=1 -v -run '^TestFaults$$' ./internal/e2e

# Each fuzz test for a few seconds; longer with make fuzz FUZZ=10m.
FUZZ ?= 3s
fuzz:
	@for f in declare/FuzzParse declare/FuzzEdit wire/FuzzEnvFile journal/FuzzEntries keep/FuzzState; do \
	  $(GO) test -run '^$$' -fuzz "^$${f#*/}$$" -fuzztime $(FUZZ) ./internal/core/$${f%/*} || exit 1; done
	$(GO) test -run '^$$' -fuzz '^FuzzRequests$$' -fuzztime $(FUZZ) ./internal/api

bench: build
	scripts/packages.sh bench
	$(GO) run ./internal/bench -binary $(BIN)

lint:
	@test -z "$$(gofmt -l .)" || { echo "not formatted:"; gofmt -l .; exit 1; }
	$(GO) vet ./...
	$(GO) run $(STATIC) ./...

# New pictures of each main view, from the demo data.
screenshots: build
	scripts/packages.sh screenshots
	scripts/screenshots.sh

# How many of the Go lines are tests, in percent.
testshare:
	@git ls-files '*.go' | xargs awk 'NF { all++; if (FILENAME ~ /_test\.go$$/) tests++ } END { printf "tests are %.1f %% of %d Go lines\n", 100 * tests / all, all }'

clean: ; rm -rf bin

# docs/KINDS.md and the JSON Schema, from the types.
docs: ; $(GO) test ./internal/core/kind/catalogue -update
