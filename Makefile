# `make demo` and `make test` do all the set-up that they need.
SHELL = /bin/bash
.PHONY: demo test test-e2e test-go test-race test-apart test-plain ahead ahead-race build web setup setup-test generate docs shots bench setup-bench lint lint-go lint-web mutants race audit

GO_TOOL = go tool -modfile=tools/go.mod
WEB_SOURCES = $(shell find web/src -type f) web/index.html web/vite.config.ts web/package-lock.json
export npm_config_loglevel = error

demo: build
	bin/rudmar demo

build: server/page/dist/index.html
	go build -buildvcs=auto -o bin/rudmar ./cmd/rudmar

web: server/page/dist/index.html

server/page/dist/index.html: web/node_modules/.package-lock.json $(WEB_SOURCES)
	cd web && npx vite build
	@touch $@

web/node_modules/.package-lock.json: web/package.json web/package-lock.json
	cd web && npm ci
	@touch $@

setup: web/node_modules/.package-lock.json

# What only the tests need: a browser, and a C compiler for the detector of data races. Chromium
# without windows takes a fifth less of a processor.
setup-test: setup
	@command -v gcc > /dev/null || { $$(test "$$(id -u)" = 0 || echo sudo) apt-get update -q && $$(test "$$(id -u)" = 0 || echo sudo) apt-get install -y -q --no-install-recommends gcc libc6-dev; }
	@test -x /usr/bin/chromium-headless-shell || test -x /usr/bin/chromium || { $$(test "$$(id -u)" = 0 || echo sudo) apt-get update -q && $$(test "$$(id -u)" = 0 || echo sudo) apt-get install -y -q --no-install-recommends chromium-headless-shell; }

# Tests write to memory where the machine lets programs run from it, so that a slow disk does not matter.
TEST_TMP = $(shell d=$$(mktemp -d /dev/shm/rudmar-test-XXXXXX 2>/dev/null) && cp /bin/true $$d/probe && $$d/probe 2>/dev/null && [ $$(df --output=avail -k /dev/shm | tail -1) -gt 2000000 ] && echo /dev/shm || echo $${TMPDIR:-/tmp}; rm -rf "$$d")

# What goes on at the same time in one process is tried under the detector of data races. What
# starts programs that it has compiled, or does very many things one after the other, has nothing
# for it to see, and would be slow: apart.
RACED = ./cage ./engine ./engine/deliver ./engine/deploy ./platform/local
APART = BinaryBodies|InvokeGo|GoIsCompiled|DocumentedCode|StackTraces|IsIsolated|StartersWork|SameCommitGives|FetchingFrom|TestPairs|OperationsAreAtomic|AttemptsSucceed

# The detector looks at all code but at that of one thread that only computes: SQLite as it was
# translated from C, what hashes passwords, what compiles WebAssembly.
UNSEEN = modernc.org/sqlite/lib modernc.org/libc modernc.org/memory golang.org/x/crypto/blowfish \
	$(addprefix github.com/tetratelabs/wazero/internal/engine/wazevo/,ssa frontend backend/...)
RACE = -race $(foreach package,$(UNSEEN),'-gcflags=$(package)=-race=false')
DETECTOR = CGO_ENABLED=1 GORACE=atexit_sleep_ms=0
RACE_TEST = $(DETECTOR) $(GO_TEST) $(RACE) -skip '$(APART)'

# vet looks at the tests with all other code, in lint. Memory is spent for time: a tenth less of it.
GO_TEST = TMPDIR=$(TEST_TMP) GOGC=400 go test -vet=off -timeout 30m

# What computes on both cores goes first: Go compiles while npm fetches, and what the detector needs
# while the code is looked at as text. Then two rows of tests go beside each other, as many as
# have not to wait for a processor for long: the browser's wait more than they compute.
test:
	$(MAKE) --no-print-directory -j 2 setup-test ahead
	$(MAKE) --no-print-directory web
	$(MAKE) --no-print-directory -j 3 lint-go lint-web ahead-race
	$(MAKE) --no-print-directory -j 2 -k --output-sync=line test-e2e test-go

# What needs no page.
ahead:
	go build ./core/... ./engine/... ./platform/...

ahead-race:
	$(DETECTOR) go build $(RACE) $(RACED)

test-e2e:
	TMPDIR=$(TEST_TMP) go test -vet=off -timeout 30m ./e2e

test-go:
	$(MAKE) --no-print-directory -k -j 1 test-race test-apart test-plain bench-short

test-race:
	$(RACE_TEST) -p 1 $(RACED)

test-apart:
	$(GO_TEST) -p 1 -run '$(APART)' ./engine ./engine/deploy ./platform/local

test-plain:
	$(GO_TEST) -p 1 $$(go list ./... | grep -vxFf <(go list $(RACED) ./e2e))
	cd tools && $(GO_TEST) ./...

# Looks for data races in other packages, too.
PACKAGES ?= $(RACED)
race:
	$(RACE_TEST) $(PACKAGES)

# Subjects of the commits after this one follow CONTRIBUTING.md.
SUBJECTS_SINCE = d2f51f141059

lint: lint-go lint-web

lint-go: web
	@test -z "$$(gofmt -l $$(git ls-files -co --exclude-standard '*.go'))" || { gofmt -l $$(git ls-files -co --exclude-standard '*.go'); echo "run gofmt -w on these"; exit 1; }
	@! git ls-files -co --exclude-standard '*.go' | grep -vE '(\.gen|_test)\.go$$' | xargs awk 'length($$0) > 120 && !/["`]/ {print FILENAME": "FNR": over 120 characters"; n++} END {exit !n}'
	go vet ./... apart
	$(GO_TOOL) staticcheck ./... apart
	cd tools && go run ./words -dir .. -since $(SUBJECTS_SINCE)

lint-web: setup
	cd web && npx vue-tsc -b && npx eslint . && npx prettier --check --log-level warn .

# Code that follows from the descriptions of the API and of the platform protocol.
generate: setup
	$(GO_TOOL) oapi-codegen -config platform/api/models.cfg.yaml platform/api/protocol.yaml
	$(GO_TOOL) oapi-codegen -config server/api/api.cfg.yaml server/api/openapi.yaml
	cd web && npm run api

# docs/diagnostics.md, from the table of codes.
docs:
	go test ./core/diagnostic -run TestDocsAreCurrent -count=1 -write-docs

shots: setup-test build
	mkdir -p docs/screenshots
	go test ./e2e -run TestShots -count=1 -shots ../docs/screenshots

# What only the benchmarks need: the zip program, to compare archives with.
setup-bench:
	@test -x /usr/bin/zip || { $$(test "$$(id -u)" = 0 || echo sudo) apt-get update -q && $$(test "$$(id -u)" = 0 || echo sudo) apt-get install -y -q --no-install-recommends zip; }

bench: setup-bench
	@set -o pipefail; $(MAKE) --no-print-directory -s measure | (cd tools && go run ./figures -document ../docs/reliability.md)

.PHONY: measure bench-short
measure:
	go test -run '^$$' -bench . -benchtime 3x $$(go list ./core/... | grep -v core/judge)
	go test -run '^$$' -bench . -benchtime 1x -timeout 2h ./core/judge
	go test -run '^$$' -bench . -benchtime 1x ./sqlstmt
	go test -run '^$$' -bench Archive -benchtime 3x ./engine/build
	go test -run '^$$' -bench Steps -benchtime 1x ./engine/deploy
	go test -run '^$$' -bench . -benchtime 1x ./engine
	go test -run '^$$' -bench Watch -benchtime 1x ./e2e
	go test -run '^$$' -bench Reading -benchtime 20x ./server
	go test -run '^$$' -bench Warm -benchtime 30x ./platform/local
	go test -run '^$$' -bench Cold -benchtime 3x ./platform/local
	go test -run '^$$' -bench ManyCallers -benchtime 1x ./platform/local

# Every benchmark once, with small input: a benchmark that fails is found before it is needed.
bench-short:
	@set -o pipefail; $(GO_TEST) -short -p 1 -run '^$$' -bench . -benchtime 1x ./core/... ./sqlstmt ./engine/... ./server ./platform/local ./e2e | grep -v 'no test files'

# Changes that the tests of a package do not notice; with PACKAGE, COUNT and SEED, and with TESTS
# when other packages' tests should notice, too.
PACKAGE ?= ./core/delivery
mutants:
	cd tools && go run ./mutants -dir .. -package $(PACKAGE) -tests "$(TESTS)" -count $(or $(COUNT),20) -seed $(or $(SEED),1)

# Known weaknesses of what is built on, where their databases can be reached: that of Go as
# a folder (VULN_DB=file:///path), npm's by its registry. Without them it says so.
audit: setup
	@if [ -n "$(VULN_DB)" ]; then $(GO_TOOL) govulncheck -db "$(VULN_DB)" ./...; \
	else echo "govulncheck: not run; give a copy of the Go vulnerability database: make audit VULN_DB=file:///path"; fi
	@cd web && out=$$(npm audit --audit-level=high 2>&1); code=$$?; \
	case "$$out" in *ENOAUDIT*|*ECONN*|*ENOTFOUND*|*EAI_AGAIN*|*"audit endpoint"*|*ETIMEDOUT*) \
	echo "npm audit: not run; the registry that is set gives no such answers: $$(npm config get registry)";; \
	*) echo "$$out"; exit $$code;; esac
