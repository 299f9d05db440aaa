# Amber Cellar. Every target installs what it needs on a Debian machine and says what it is doing.
GO ?= go
VERSION ?= $(shell git describe --tags --always --dirty 2>/dev/null || echo development)
BIN := build/ambercellar
# The program, its tests and the linter are compiled alike, so that on a new machine what they share is compiled once;
# without what only a debugger reads, and without the encoder of MessagePack that Gin brings, which is a sixth of it all.
# The compiler is given memory, and so is Node: that saves them a fifth of their time, and tests a tenth.
export NODE_OPTIONS := --max-semi-space-size=128
export GOFLAGS := -trimpath -tags=nomsgpack -gcflags=all=-dwarf=false -ldflags=-w
COMPILE := CGO_ENABLED=0 GOGC=400

.PHONY: build demo test quick lint lint-deep raced race soak matrix bench console deb deb-check check screenshots clean
build: $(BIN) ## one static binary, console and version in it

$(BIN): console # always: the Go tool knows best what is stale
	@echo "== building $(BIN), version $(VERSION)"
	$(COMPILE) $(GO) build -ldflags "-s -w -X ambercellar/internal/service.Version=$(VERSION)" -o $(BIN) ./cmd/ambercellar

demo: build ## the service on made-up data; prints one address to open
	@echo "== starting the demo"
	./$(BIN) demo

console: console/dist/index.html ## the web console

CONSOLE_SOURCES := $(shell find console/src console/public -type f ! -name schema.d.ts) console/index.html console/vite.config.ts console/package-lock.json docs/openapi.json
console/dist/index.html: $(CONSOLE_SOURCES)
	@./tools/need.sh go node
	@echo "== installing the console's packages (npm) and building it"
	cd console && npm install --no-save --no-audit --no-fund --loglevel=error && npm run --silent types && npm run --silent build

# Tests sync a lot, to databases, catalogs and stores that nobody keeps: where there is room, those lie in memory.
TEST_TMP := $(shell [ "$$(df --output=avail -m /dev/shm 2>/dev/null | tail -1)" -ge 6000 ] 2>/dev/null && echo /dev/shm || echo $${TMPDIR:-/tmp})

# What a database server's files are copied from, for the time of one test run. The Go tool keeps what a test said as long
# as its environment is the same: so the name is.
TEMPLATES := $(TEST_TMP)/ambercellar-templates-$(shell pwd | cksum | cut -d ' ' -f 1)

# Packages whose tests take longest begin first.
LONGEST := ./internal/e2e ./internal/engine ./internal/service ./internal/source/...
# How many packages are tested at a time: the tests of servers and of the console wait more than they work. What vet
# says, the linters say.
PACKAGES := $(shell n=$$(nproc); echo $$((n > 2 ? n : 3)))

# While npm works, Debian's packages are installed, and all is compiled that does not hold the console. The linters look
# while the tests run, which wait more than they work.
test: ## all tests, on private servers and in headless Chromium
	@$(MAKE) --no-print-directory -j3 --output-sync=target debian compiled console
	@$(MAKE) --no-print-directory build
	@echo "== testing, with temporary files in $(TEST_TMP); and linting beside that"
	@mkdir -p build; nice -n 10 $(MAKE) --no-print-directory lint > build/lint.log 2>&1 & linted=$$!; \
	rm -rf $(TEMPLATES); mkdir $(TEMPLATES); trap 'rm -rf $(TEMPLATES)' EXIT; \
	AMBERCELLAR_TEMPLATES=$(TEMPLATES) TMPDIR=$(TEST_TMP) $(COMPILE) $(GO) test -vet=off -p $(PACKAGES) -timeout 16m \
		$(LONGEST) ./...; tested=$$?; \
	wait $$linted; linted=$$?; cat build/lint.log; exit $$((tested + linted))

.PHONY: debian compiled lint-go lint-console
debian:
	@./tools/need.sh postgresql mariadb-server mariadb-client sqlite3 chromium gcc prometheus systemd nginx

compiled:
	@./tools/need.sh go
	@$(COMPILE) $(GO) list -export -deps -test ./client ./demo ./deploy ./internal/... ./tools/... > /dev/null

lint: lint-go lint-console ## the checks of vet and staticcheck, gofmt, svelte-check, eslint and prettier, and lines of 120 columns at most

lint-go: console
	@echo "== linting the Go code"
	$(COMPILE) $(GO) run ./tools/lint ./...
	@test -z "$$(gofmt -l $$(git ls-files '*.go'))" || { echo "these files are not gofmt'ed:"; gofmt -l $$(git ls-files '*.go'); exit 1; }
	@./tools/lines.sh

lint-console: console
	@echo "== linting the console"
	cd console && npm run --silent check && npm run --silent lint

lint-deep: ## vet and staticcheck themselves, which check all modules below ours as well (minutes on a new machine)
	$(COMPILE) $(GO) vet ./...
	$(COMPILE) $(GO) tool staticcheck ./...

quick: ## the inner loop: core, archive, catalog, interface, client and the sources that need no server, within a minute
	TMPDIR=$(TEST_TMP) CGO_ENABLED=0 $(GO) test -timeout 2m ./client ./internal/core/... ./internal/archive/... ./internal/catalog ./internal/api ./internal/cli ./internal/source ./internal/source/sqlite

raced: ## answers that are asked for while a run goes, under the race detector: compiling for it is most of that
	@./tools/need.sh gcc
	TMPDIR=$(TEST_TMP) $(GO) test -race -vet=off -timeout 15m -run '^TestAnswersHoldWhileARunGoesOn$$/sqlite' ./internal/engine

race: ## engine, service, interface and sources under the race detector
	@./tools/need.sh postgresql mariadb-server gcc
	TMPDIR=$(TEST_TMP) $(GO) test -race -timeout 90m ./internal/engine ./internal/service ./internal/api ./internal/source/... ./internal/archive/...

soak: ## many rules on many tables with writers, for ten minutes under the race detector; every row is accounted for
	@./tools/need.sh postgresql mariadb-server gcc
	AMBERCELLAR_SOAK=10m $(GO) test -race -v -run TestSoak -timeout 30m ./internal/e2e

matrix: ## crash and failure matrix at all of their points: at each the process is killed (a quarter of an hour) or something fails (hours), and every row is counted
	@./tools/need.sh postgresql mariadb-server gcc
	AMBERCELLAR_MATRIX=full $(GO) test -v -run "TestCrashMatrix|TestFailureMatrix" -timeout 240m ./internal/engine

bench: build ## archive and delete beside what a person does by hand; prints a table, writes JSON
	@./tools/need.sh postgresql mariadb-server mariadb-client sqlite3 zstd
	$(GO) run ./bench -out bench/out

screenshots: build ## the console's pictures for docs/screenshots, from a demo that runs at ADDRESS
	@./tools/need.sh chromium
	$(GO) run ./tools/screenshots -address '$(ADDRESS)' -out docs/screenshots

NFPM := $(GO) run github.com/goreleaser/nfpm/v2/cmd/nfpm@v2.43.4
deb: build ## a Debian package in build/
	@echo "== packing version $(VERSION)"
	$(GO) run ./tools/man -out build/man -version '$(VERSION)'
	VERSION=$$(echo '$(VERSION)' | sed -E 's/^v//; /^[0-9]+\./!s/^/0~/; s/-/+/g') GOFLAGS= $(NFPM) package -f deploy/deb/nfpm.yaml -p deb -t build/

deb-check: deb ## install the package on this machine, ask the program, and remove the package
	@deploy/deb/check.sh

clean:
	rm -rf build console/dist/assets console/dist/index.html console/node_modules demo-data bench/out
