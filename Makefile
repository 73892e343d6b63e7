# make build   the console and bin/innergate
# make demo    the same, then the gate with demo data and stand-ins
# make test    everything tests need, then every test
# make bench   measurements as ratios
# make load    what whole crossings cost the gate: docs/load.md and its plot
# make crash   the tests that try to break it, for longer
# make race    the tests of what many do at once, under the race detector
# make fuzz    every reader of foreign input, for FUZZ_TIME each (60s); an input that fails stays as test data

.PHONY: build demo test bench load crash race fuzz console docs
export CGO_ENABLED = 1
VERSION := $(shell git describe --tags --always 2>/dev/null || echo dev)

build: console
	go build -trimpath -ldflags "-X innergate.example/innergate/internal/app.Version=$(VERSION)" -o bin/innergate ./cmd/innergate

console: internal/web/dist/console/index.html

console/node_modules/.package-lock.json: console/package.json console/package-lock.json
	cd console && npm ci --no-audit --no-fund --loglevel=error

internal/web/dist/console/index.html: console/node_modules/.package-lock.json docs/openapi.json console/index.html console/vite.config.ts $(shell find console/src -type f -not -name '*.gen.d.ts')
	cd console && npm run -s types && npm run -s build

demo: build
	bin/innergate demo

# The generated documents, after a change of the API or the catalogue.
docs:
	go run ./cmd/innergate openapi > docs/openapi.json.new && mv docs/openapi.json.new docs/openapi.json
	go test ./internal/core/finding -run Documented -update
	go test ./internal/app -run Abilities -update

test:
	./test.sh

# Tries to break it: killed under load, a full disk, floods.
crash: build
	cd e2e && INNERGATE_LONGER=20 INNERGATE_BIN=$(CURDIR)/bin/innergate go test -count=1 -timeout 60m -v \
		-run 'SignalsThat|FileDescriptors|KilledUnderLoad|TheDiskIsFull|Flood' .

race: console
	go test -race -count=1 -timeout 25m ./internal/gate/... ./internal/core/crossing/... ./internal/store/... ./internal/web/...

# Without a bound, making an interesting input small takes most of the time, above all of documents.
FUZZ_TIME ?= 60s
fuzz:
	@set -e; for package in $$(grep -rl '^func Fuzz' --include='*_test.go' internal | xargs -n 1 dirname | sort -u); do \
	  for target in $$(sed -n 's/^func \(Fuzz[A-Za-z0-9]*\)(.*/\1/p' $$package/*_test.go); do \
	    echo "$$target in $$package"; \
	    said=$$(go test -run '^$$' -fuzz "^$$target$$" -fuzztime $(FUZZ_TIME) -fuzzminimizetime 2s ./$$package 2>&1) || { echo "$$said"; exit 1; }; \
	    echo "$$said" | tail -n 3; \
	  done; done

# Each flow is driven for LOAD_TIME as fast as it goes, and then at parts of that.
LOAD_TIME ?= 8s
load: build
	INNERGATE_BIN=$(CURDIR)/bin/innergate INNERGATE_LOAD=$(CURDIR)/docs INNERGATE_LOAD_TIME=$(LOAD_TIME) \
		go test -count=1 -timeout 30m -v -run 'TestLoad$$' ./e2e

bench: build
	{ go test -run '^$$' -bench . -benchtime 2s ./internal/core/xmlsec ./internal/core/expression ./internal/core/profile ./internal/core/policy ./internal/gate; \
	  INNERGATE_BIN=$(CURDIR)/bin/innergate go test -run '^$$' -bench 'Aggregate|Start|Serve' -benchtime 5x -timeout 30m ./e2e; \
	  INNERGATE_BIN=$(CURDIR)/bin/innergate go test -run '^$$' -bench 'Pages|Portal' -benchtime 2s -timeout 30m ./e2e; } | awk -f bench.awk
	./parts.sh
