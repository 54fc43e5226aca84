# The two that a newcomer needs are demo and test; `make help` lists the rest.
SHELL := /bin/bash
BIN := bin

# Programs and tests are built alike, so that what one has compiled the other takes. Debuggers' notes and symbols are
# left out (stack traces have lines all the same), and the table of calls is not inlined: together a third of a first
# build. The compiler is let have memory rather than collect it. Without C a program is the same whether or not the
# machine that builds it has a compiler for C.
export CGO_ENABLED := 0
export GOFLAGS := -buildvcs=auto -gcflags=all=-dwarf=false '-gcflags=ironbell/internal/api=-dwarf=false -l' '-ldflags=-s -w'
GO := env GOGC=off GOMEMLIMIT=1200MiB go
GO_FILES := $(shell git ls-files -co --exclude-standard '*.go' '*.sql' '*.html' go.mod go.sum)
CONSOLE_FILES := $(shell git ls-files -co --exclude-standard console)

.PHONY: help demo demo-reset test check attack torture soak lint build console screenshots gallery bench bench-quick describe
help: ## List what can be made
	@grep -hE '^[a-z-]+:.*## ' $(MAKEFILE_LIST) | sed 's/:.*## /\t/' | expand -t 16

demo: ## Start Tarnwick Sound Ferries on this machine; Ctrl-C stops it
	@GOGC=off GOMEMLIMIT=1200MiB scripts/together
	@$(MAKE) --no-print-directory build
	@exec $(BIN)/ironbell demo

demo-reset: build ## Forget the demo's state
	@$(BIN)/ironbell demo -reset

build: console ## Build console and programs
	@$(GO) build -o $(BIN)/ ./cmd/...

console: console/dist/index.html ## Build the console
console/dist/index.html: $(CONSOLE_FILES) internal/api/openapi.json
	@scripts/ensure console
	@cd console && npm run --silent types >/dev/null && npm run --silent build -- --logLevel warn

describe: ## Write the API's description and the reference anew
	@go run ./cmd/ironbell describe > internal/api/openapi.json.new && mv internal/api/openapi.json.new internal/api/openapi.json
	@go run ./cmd/ironbell describe -reference > docs/reference.md.new && mv docs/reference.md.new docs/reference.md

test: ## Test everything: core, store, console and the whole
	@scripts/ensure test
	@$(MAKE) --no-print-directory build
	@cd console && npm run --silent test
	@# What vet finds the linter has found. Much of it waits, so that three packages go on two cores.
	IRONBELL_PROGRAMS=$(CURDIR)/$(BIN) go run ./test/run -count=1 -vet=off -p 3 -parallel 2 -timeout 22m ./test/faults ./test/torture ./test/console ./test ./...
	@# By count: a limit in time may end in an error of the fuzzer's own.
	go test -run '^$$' -fuzz FuzzParse -fuzztime 15000x -fuzzminimizetime 1x ./internal/core/rule
	go test -run '^$$' -fuzz FuzzReadICS -fuzztime 8000x -fuzzminimizetime 1x ./internal/core/calendar

check: ## What one wants to know at each change: form, and every test that starts no server
	@$(MAKE) --no-print-directory console
	@scripts/ensure lint
	@test -z "$$(gofmt -l cmd internal client demo standin test)" || { gofmt -l cmd internal client demo standin test; echo "gofmt these files"; exit 1; }
	.tools/golangci-lint run ./...
	go test ./cmd/... ./client/... ./internal/core/... ./internal/timetable ./internal/access ./internal/alert ./internal/api/... ./internal/artifact ./internal/cli ./internal/event ./internal/outgoing ./internal/secret ./standin/...
	go test -run 'TestTheGuide' ./test
	@cd console && npm run --silent check && npm run --silent test

attack: ## Run the tables of attacks on real servers, and tell how many were refused; make test runs them, too
	@scripts/ensure test
	@go run ./test/attack

torture: ## Break everything for minutes while thousands of jobs ring; make test has a short form
	@scripts/ensure test
	go test -count=1 -timeout 40m -v ./test/torture -args -jobs 300 -seconds 330
	IRONBELL_CHANGES=200 go test -count=1 -timeout 30m -v -run TestWhatIfIsTheDifferenceOfTwoForecasts ./test
	IRONBELL_PARTS=10000 go test -count=1 -timeout 30m -v -run TestAllPartsSettleOverAKill ./test/faults

soak: ## Let the demo company live for 24 days under a turned clock; make test has a day of it
	@scripts/ensure test
	IRONBELL_SOAK=24 go test -count=1 -timeout 60m -v -run TestTheCompanyLivesForDays ./test/faults

lint: ## Check form and structure
	@scripts/ensure lint
	@test -z "$$(gofmt -l cmd internal client demo standin test)" || { gofmt -l cmd internal client demo standin test; echo "gofmt these files"; exit 1; }
	.tools/golangci-lint run ./...
	@scripts/known-faults
	@cd console && npm run --silent types >/dev/null && npm run --silent check && npm run --silent lint

screenshots: build ## Take the pictures of docs/screenshots from the demo that runs
	@scripts/ensure test
	@go run ./test/shots

gallery: ## Make files of reports that are hard to lay out, and a page that shows them: .gallery/index.html
	@go run ./test/gallery

bench: ## Measure speed as ratios of floors of the same run: a quarter of an hour; one table at its end
	@scripts/ensure bench
	@$(MAKE) --no-print-directory build
	go test -run '^$$' -bench . -benchmem ./internal/core/...
	go run ./test/bench -service $(BIN)/ironbell $(if $(DOCS),-docs docs/speed.md)

bench-quick: ## The short form, in two minutes, beside the ratios that are kept; KEEP=1 keeps these
	@scripts/ensure run
	@$(MAKE) --no-print-directory build
	@go run ./test/bench -service $(BIN)/ironbell -quick $(if $(KEEP),-keep)
