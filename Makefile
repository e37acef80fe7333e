# Neighbour's own commands; make help lists them. Each does its set-up itself.

GO      ?= go
BIN     := bin/neighbour
PREFIX  ?= /usr/local
STATIC  := honnef.co/go/tools/cmd/staticcheck@v0.8.2

# The version is that of the last tag, and how far this is from it.
VERSION := $(shell git describe --tags --always --dirty 2>/dev/null || echo unknown)
STAMP   := -X neighbour/internal/cli.stamp=$(VERSION)
BUILD   := $(GO) build -ldflags '-s -w $(STAMP)'

# One form for all builds, so that each package is compiled once.
export GOFLAGS := $(filter-out -trimpath,$(GOFLAGS)) -trimpath

# No C: the program needs no library of the system it runs on, and begins sooner.
export CGO_ENABLED := 0
race: export CGO_ENABLED := 1

.PHONY: help race build program install uninstall demo trouble test faults fuzz quickfuzz bench figures lint screenshots testshare docs clean

help: ## what there is
	@sed -n 's/^\([a-z0-9]*\):[^#]*## /\1\t/p' $(MAKEFILE_LIST) | expand -t 14

build: program ## bin/neighbour, and its manual in bin/man
	@$(GO) run -ldflags '-s -w $(STAMP)' ./internal/manual bin/man

program:
	@scripts/compile.sh $(BUILD) -v -o $(BIN) ./cmd/neighbour

install: ## what build has built, its completions and its manual, below PREFIX (/usr/local)
	@test -x $(BIN) -a -d bin/man || { echo "there is no $(BIN); build it first, as yourself: make build" >&2; exit 1; }
	@test -z "$$(find cmd internal -name '*.go' -newer $(BIN) -print -quit)" || echo "note: $(BIN) is older than the sources; make build builds it anew" >&2
	install -d $(DESTDIR)$(PREFIX)/bin
	install -m 755 $(BIN) $(DESTDIR)$(PREFIX)/bin/neighbour
	install -d $(DESTDIR)$(PREFIX)/share/bash-completion/completions $(DESTDIR)$(PREFIX)/share/zsh/site-functions $(DESTDIR)$(PREFIX)/share/fish/vendor_completions.d $(DESTDIR)$(PREFIX)/share/man/man1
	$(BIN) completion bash >$(DESTDIR)$(PREFIX)/share/bash-completion/completions/neighbour
	$(BIN) completion zsh >$(DESTDIR)$(PREFIX)/share/zsh/site-functions/_neighbour
	$(BIN) completion fish >$(DESTDIR)$(PREFIX)/share/fish/vendor_completions.d/neighbour.fish
	install -m 644 bin/man/* $(DESTDIR)$(PREFIX)/share/man/man1

uninstall: ## what install has made; projects and their data stay
	rm -f $(DESTDIR)$(PREFIX)/bin/neighbour $(DESTDIR)$(PREFIX)/share/bash-completion/completions/neighbour $(DESTDIR)$(PREFIX)/share/zsh/site-functions/_neighbour $(DESTDIR)$(PREFIX)/share/fish/vendor_completions.d/neighbour.fish
	rm -f $(DESTDIR)$(PREFIX)/share/man/man1/neighbour.1 $(DESTDIR)$(PREFIX)/share/man/man1/neighbour-*.1

demo: program ## the full-screen map on the running Toolshed
	$(BIN) demo

trouble: program ## the same on a bad day
	$(BIN) demo --trouble

test: ## every test; installs what the tests need, where it can
	@scripts/packages.sh test
	@scripts/clients.sh
	@scripts/test.sh -timeout 25m -vet=off -parallel 8 ./...

race: ## the tests of the packages that do things at the same time, with the race detector
	@scripts/packages.sh test
	@scripts/test.sh -race -timeout 25m -vet=off -parallel 8 $$($(GO) list ./internal/core/... ./internal/kinds/... ./internal/api ./internal/gate/... ./internal/emulator/... | grep -v '/internal/core$$')

faults: ## what goes wrong around keepers, services and machines, with real processes
	scripts/packages.sh test
	scripts/test.sh -timeout 15m -count=1 -run '^TestFaults$$' ./internal/e2e

# By count: a time that runs out during an attempt fails the attempt.
FUZZ ?= 300x
# By package below internal: what is quickly built, and what needs minutes.
QUICK   := core/record/journal/FuzzEntries core/data/snapshot/FuzzImport core/data/sqlscript/FuzzSplit core/declaration/route/FuzzHost core/declaration/schedule/FuzzLine emulator/documents/value/FuzzValidate \
	emulator/documents/query/FuzzParse emulator/documents/wire/FuzzRead
SLOW    := core/declaration/declare/FuzzParse core/declaration/declare/FuzzEdit core/declaration/wire/FuzzEnvFile core/keeper/keep/FuzzState api/FuzzRequests emulator/objects/FuzzStream \
	emulator/documents/pipeline/FuzzPipeline emulator/identity/FuzzRequests emulator/functions/FuzzAnswer emulator/stub/FuzzPaths emulator/stub/FuzzDocument
fuzz: quickfuzz ## each fuzz test for a few hundred inputs; longer with FUZZ=100000x
	@$(call fuzz,$(SLOW))

quickfuzz: ## those of the fuzz tests that are quickly built
	@$(call fuzz,$(QUICK))

fuzz = set -e; for f in $(1); do $(GO) test -run '^$$' -fuzz "^$${f\#\#*/}$$" -fuzztime $(FUZZ) ./internal/$${f%/*}; done

bench: program ## how fast it is, with the limits
	scripts/packages.sh bench
	$(GO) run ./internal/bench -binary $(BIN)

figures: program ## measures what the README quotes, and writes its table
	scripts/packages.sh bench
	$(GO) run ./internal/bench -binary $(BIN) -table README.md

lint: ## form, vet and staticcheck
	@test -z "$$(gofmt -l .)" || { echo "not formatted:"; gofmt -l .; exit 1; }
	$(GO) vet ./...
	$(GO) run $(STATIC) ./...

screenshots: program ## new pictures of each main view, from the demo data
	scripts/packages.sh screenshots
	scripts/screenshots.sh

testshare: ## how many of the Go lines are tests, in percent
	@git ls-files '*.go' ':!third_party' | xargs awk 'NF { all++; if (FILENAME ~ /_test\.go$$/) tests++ } END { printf "tests are %.1f %% of %d Go lines\n", 100 * tests / all, all }'

docs: ## docs/KINDS.md and the JSON Schema, from the types
	$(GO) test ./internal/kinds/catalogue -update

clean: ## removes bin
	rm -rf bin
