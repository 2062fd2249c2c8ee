# Revlet: build, test and look. `make` alone builds.
export CGO_ENABLED = 0
# No path of this machine in what is built, and so nothing to build again in another folder.
export GOFLAGS := $(GOFLAGS) -trimpath
GO ?= go

.PHONY: build release test test-long test-windows demo bench screenshots lint audit fuzz clean
# One static program, without symbols.
build:
	$(GO) build -ldflags "-s -w" -o bin/revlet ./cmd/revlet

# What is given to people, in bin/release: for every system an archive with the program, manual and completion;
# packages for Debian and RPM; a bill of materials; SHA-256 of all. The same commit gives the same bytes.
release:
	$(GO) run ./scripts/release -out bin/release

# Installs what the tests need from Debian's packages when it is missing (as
# root), then runs all of them.
test: lint
	./scripts/setup.sh test
	GOGC=400 $(GO) test -count=1 -parallel 8 -timeout 25m ./... # the built program is no input that the test cache knows
	$(GO) -C e2e/mysql8 test -count=1 ./... # a module of its own, for a server that the program does not need

# What takes too long for every time: a WordPress over two servers of FTP, a cutover of 20,000 files.
test-long:
	./scripts/setup.sh test
	REVLET_LONG=1 $(GO) test -count=1 -v -timeout 25m -run "TestWordPressOverFTP|TestCutoverWithRealNameServers" ./e2e
	REVLET_LONG=1 $(GO) test -count=1 -v -timeout 25m -run TestRelease ./scripts/release

# The program for Windows, under Wine, with a site on another machine.
test-windows:
	./scripts/windows.sh

# The whole job on a made-up site, in ./kestrelpoint-demo.
demo: build
	./bin/revlet demo

# Figures beside tar, zstd, sha256sum and the database clients, as ratios in one run. BENCH gives it another size, such as
# BENCH="-files 4000 -mib 400 -sql 60"; FIGURES names the page that is written, such as docs/FIGURES.md.
bench: build
	./scripts/setup.sh test
	$(GO) run ./scripts/bench $(BENCH) $(if $(FIGURES),-figures $(FIGURES))

# Draws docs/screenshots anew, from the demo's data in a real terminal.
screenshots: build
	./scripts/setup.sh screenshots
	./scripts/screenshots.sh

# What is cheap to check, first.
lint:
	@test -z "$$(gofmt -l .)" || { gofmt -l .; echo "run gofmt -w on these files"; exit 1; }
	$(GO) vet ./...
	$(GO) -C e2e/mysql8 vet ./...
	for s in windows darwin freebsd; do GOOS=$$s $(GO) vet ./cmd/... ./internal/... || exit 1; done
	GOARCH=arm64 $(GO) vet ./cmd/... ./internal/...
	$(GO) tool staticcheck ./...

# What has to be fetched first, and is looked at by a person: known weaknesses of the
# libraries (it asks a database on the net), and risky code. G115 warns of every conversion of
# an integer; the stand-ins and the benchmarks are not for others.
audit:
	$(GO) run golang.org/x/vuln/cmd/govulncheck@v1.9.0 ./...
	$(GO) run github.com/securego/gosec/v2/cmd/gosec@v2.30.0 -quiet -severity high -exclude G115 -exclude-dir scripts -exclude-dir internal/practice -exclude-dir e2e ./...

# Every reader of what others have written, FUZZTIME each: `make fuzz FUZZTIME=1h`. Go
# shortens what it finds interesting for a minute each time unless it is told not to; files
# are written into memory.
FUZZTIME ?= 1m
fuzz:
	@TMPDIR=$${FUZZDIR:-/dev/shm} GO="$(GO)" ./scripts/fuzz.sh $(FUZZTIME)

clean:
	rm -rf bin
