# Revlet: build, test and look. `make` alone builds.
export CGO_ENABLED = 0
GO ?= go

.PHONY: build test demo bench screenshots lint clean
build:
	$(GO) build -trimpath -ldflags "-s -w" -o bin/revlet ./cmd/revlet

# Installs what the tests need from Debian's packages when it is missing (as
# root), then runs all of them.
test: lint
	./scripts/setup.sh test
	$(GO) test -count=1 -parallel 4 -timeout 25m ./... # the built program is no input that the test cache knows

demo: build
	./bin/revlet demo

bench: build
	./scripts/setup.sh test
	$(GO) run ./scripts/bench

screenshots: build
	./scripts/setup.sh screenshots
	./scripts/screenshots.sh

lint:
	@test -z "$$(gofmt -l .)" || { gofmt -l .; echo "run gofmt -w on these files"; exit 1; }
	$(GO) vet ./...
	$(GO) tool staticcheck ./...

clean:
	rm -rf bin
