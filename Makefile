# Gray Loft. `make help` lists what there is.
SHELL := /bin/sh
GO ?= go
DEMO_DIR ?= .demo
DEMO_PORT ?= 7420
DEMO_STAY ?= yes

# Without cgo, the programs need no libraries of the machine where they run, such as a small container.
export CGO_ENABLED ?= 0

WEB := $(shell find web/src web/public -type f ! -name schema.d.ts) web/index.html web/vite.config.ts web/package.json web/package-lock.json internal/service/api/openapi.json
DIST := internal/service/console/dist/index.html

.PHONY: help
help: ## list what there is
	@grep -hE '^[a-z-]+:.*##' $(MAKEFILE_LIST) | sed 's/:.*## /\t/' | expand -t 14

.PHONY: demo
demo: ## start everything with demo data, and stay up (DEMO_STAY=no: exit when it is there)
	@scripts/need.sh demo
	@$(MAKE) --no-print-directory build
	@$(GO) run ./demo/play --dir "$(DEMO_DIR)" --bin bin --port "$(DEMO_PORT)" --stay=$(if $(filter no,$(DEMO_STAY)),false,true)

.PHONY: archive
archive: ## fill skerry-archive into the demo: a year of generated records (3 minutes, 4 GB)
	@scripts/need.sh demo
	$(GO) run ./demo/archive --dir "$(DEMO_DIR)" $(ARCHIVE)

.PHONY: test
test: ## everything: formatting, linters, the console's types, all tests
	@scripts/need.sh test
	@$(MAKE) --no-print-directory build
	@test -z "$$(git ls-files -z '*.go' | xargs -0 gofmt -l)" || { echo "gofmt would change:"; git ls-files -z '*.go' | xargs -0 gofmt -l; exit 1; }
	$(GO) vet ./...
	$(GO) tool staticcheck ./...
	cd web && npm run --silent check && npm run --silent lint
	CGO_ENABLED=1 $(GO) test -race -timeout 12m -skip '$(RANDOM_TESTS)' $$($(GO) list ./... | grep -v -e /internal/cli -e /attack)
	$(GO) test -timeout 12m -parallel 6 ./internal/cli # most of it is waiting
	@$(MAKE) --no-print-directory attack
	$(GO) test -timeout 12m -run '$(RANDOM_TESTS)' ./internal/core/... ./scale

# These compare thousands of cases, for which the race detector is slow.
# The tests of internal/cli run the client as processes, which it does not see.
RANDOM_TESTS := ^(TestRandomDecisions|TestSchedulesAreNearTheirBound|TestRecordedDaysAreSimulatedAsTheyWere|TestTheSameSeedGivesTheSameWeek)$$

.PHONY: attack
attack: ## carry out the attacks of docs/security.md, and look at the victims
	@scripts/need.sh test
	$(GO) test -timeout 6m -parallel 10 ./attack

.PHONY: build
build: $(DIST) ## both programs into bin/, the console embedded
	$(GO) build -trimpath -o bin/ ./cmd/...

$(DIST): $(WEB) web/node_modules/.installed
	cd web && npm run --silent build
	@touch $@

web/node_modules/.installed: web/package-lock.json
	@scripts/need.sh build
	cd web && npm install --no-save --no-audit --no-fund --loglevel=error
	@touch $@

.PHONY: cross
cross: ## the client for Linux, macOS and Windows, into bin/
	@for p in linux/amd64 linux/arm64 darwin/arm64 windows/amd64; do \
	  echo "bin/grayloft-$${p%/*}-$${p#*/}"; \
	  GOOS=$${p%/*} GOARCH=$${p#*/} $(GO) build -trimpath -o bin/grayloft-$${p%/*}-$${p#*/} ./cmd/grayloft || exit 1; \
	done

.PHONY: bench
bench: build ## one table of times against the machine's own limits; bench.json has it as JSON
	@scripts/need.sh bench
	$(GO) run ./bench $(BENCH)

.PHONY: simulate
simulate: $(if $(SCALE),build) ## a large company in virtual time: writes docs/scale.md (SCALE=-measure: what requests cost; SCALE=-load: a load test)
	$(GO) run ./scale $(SCALE)

.PHONY: trials
trials: ## break things on purpose, many times, and count (30 minutes; TRIALS=10: a tenth of it)
	@scripts/need.sh test
	$(GO) test -tags trials -count=1 -timeout 90m -v ./trials
	$(GO) test -tags trials -count=1 -timeout 60m -parallel 12 -v -run '^TestRandom' ./attack

FUZZ ?= 30s
.PHONY: fuzz
fuzz: ## every parser against made-up input, for FUZZ=30s each
	@for f in $$(git grep -l '^func Fuzz' -- '*_test.go'); do for n in $$(sed -n 's/^func \(Fuzz[A-Za-z]*\).*/\1/p' $$f); do \
	  echo "$$n in $$f"; $(GO) test -run '^$$' -fuzz "^$$n\$$" -fuzztime $(FUZZ) ./$$(dirname $$f) || exit 1; done; done

.PHONY: screenshots
screenshots: build ## docs/screenshots, from the demo data
	@scripts/need.sh test
	$(GO) run ./docs/shoot --demo "$(DEMO_DIR)"
	DEMO_DIR="$(abspath $(DEMO_DIR))" scripts/shoot-terminal.sh docs/screenshots/terminal-run.png "grayloft run --no-reuse build test" 4.2

.PHONY: clean
clean: ## what was built; the demo's data stays in .demo
	rm -rf bin web/node_modules internal/service/console/dist/assets internal/service/console/dist/index.html
