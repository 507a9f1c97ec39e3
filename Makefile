.DEFAULT_GOAL := build
.PHONY: build install demo test test-rooms test-estates test-long crash cover bench fleet lint format generate docs docs-shots fuzz setup clean

GO_SOURCES := $(shell find . -name '*.go' -not -path './console/node_modules/*') go.mod go.sum $(wildcard internal/inventory/migrations/*.sql) internal/api/docs.html
CONSOLE_SOURCES := $(shell find console/src console/public -type f -not -path '*/generated/*' -not -name '*.test.ts') console/index.html console/package-lock.json console/vite.config.ts api/openapi.yaml

build: bin/unvora  ## one binary, console inside

bin/unvora: $(GO_SOURCES) console/dist/index.html
	go build -o bin/unvora ./cmd/unvora

console/dist/index.html: $(CONSOLE_SOURCES) | setup
	cd console && npm run --silent build
	@touch $@

PREFIX ?= /usr/local
install: build  ## the binary, and units for systemd
	install -D -m 0755 bin/unvora $(DESTDIR)$(PREFIX)/bin/unvora
	install -d -m 0755 $(DESTDIR)/etc/unvora
	sed 's|/usr/local|$(PREFIX)|' scripts/systemd/unvora.service | install -D -m 0644 /dev/stdin $(DESTDIR)/etc/systemd/system/unvora.service
	sed 's|/usr/local|$(PREFIX)|' scripts/systemd/unvora-agent.service | install -D -m 0644 /dev/stdin $(DESTDIR)/etc/systemd/system/unvora-agent.service
	sed 's|/usr/local|$(PREFIX)|' scripts/systemd/unvora-machines.service | install -D -m 0644 /dev/stdin $(DESTDIR)/etc/systemd/system/unvora-machines.service

setup:
	@scripts/setup

demo: setup build  ## the sample estate, on port 7480
	bin/unvora demo --dir .demo --port 7480 --default-profile

test: setup build lint  ## everything that must hold
	cd console && npm run --silent test
	@$(MAKE) --no-print-directory -j2 --output-sync=target test-rooms test-estates

test-rooms:
	go test -count=1 -vet=off -timeout 18m ./core/... ./internal/... ./api/... ./cmd/... # lint has vetted them

test-estates: # beside the others: these wait more than they work
	UNVORA_BINARY=$(CURDIR)/bin/unvora go test -count=1 -vet=off -timeout 25m -parallel 100 ./tests/...

test-long: setup build  ## what takes long: every broken write, the large inventory, mutated lines
	go test -count=1 -tags long -timeout 60m ./internal/work/steer ./internal/inventory
	go test -count=1 -timeout 60m ./core/disk/formats -args -rapid.checks=1000
	$(MAKE) --no-print-directory crash SEED=100 ROUNDS=4
	go run ./tests/mutate

SEED ?= 20
ROUNDS ?= 1
crash: setup build  ## processes killed in the middle of each operation: SEED=100 ROUNDS=4 are a hundred kills
	UNVORA_BINARY=$(CURDIR)/bin/unvora SEED=$(SEED) ROUNDS=$(ROUNDS) go test -count=1 -timeout 120m -parallel 2 -run TestKills -v ./tests

COVER ?= /tmp/unvora-cover
cover: setup console/dist/index.html  ## what the tests reach, with the processes that they start
	rm -rf $(COVER) && mkdir -p $(COVER)/unit $(COVER)/processes && chmod 777 $(COVER)/processes # agents run as nobody
	-go test -count=1 -timeout 20m -cover -coverpkg=./core/...,./internal/...,./api ./core/... ./internal/... -args -test.gocoverdir=$(COVER)/unit
	-GOCOVERDIR=$(COVER)/processes go test -count=1 -timeout 20m ./tests
	go tool covdata percent -i=$(COVER)/unit,$(COVER)/processes | grep -v 'coverage: 0.0%' | sed 's|.*unvora/unvora/||' | sort
	go tool covdata textfmt -i=$(COVER)/unit,$(COVER)/processes -o=$(COVER)/all && go tool cover -func=$(COVER)/all | tail -1

lint: setup console/dist/index.html
	@test -z "$$(gofmt -l $$(git ls-files '*.go' | grep -v gen.go))" || { echo "not formatted: $$(gofmt -l $$(git ls-files '*.go' | grep -v gen.go))"; exit 1; }
	go vet -tags long,shots ./...
	go tool staticcheck ./...
	go tool errcheck -ignoretests -exclude scripts/errcheck.txt ./...
	cd console && npm run --silent lint
	@$(MAKE) --no-print-directory generate docs
	@git diff --exit-code --stat -- api/openapi.gen.go docs/commands.md docs/findings.md docs/disks.md docs/inventory.md docs/how-it-works.md || { echo "generated files are out of date: make generate docs"; exit 1; }

format:
	gofmt -w $$(git ls-files '*.go')
	cd console && npm run --silent format

generate:  ## Go from the contract; the console's types are made by its build
	go generate ./api

docs:  ## the reference, from the code
	go run ./internal/cli/reference docs

docs-shots: setup build  ## screenshots anew, from the demo
	go test -count=1 -tags shots ./tests -run 'TestConsole|TestCopiesPage|TestTerminalShots' -shots $(CURDIR)/docs/screenshots

bench: setup build  ## ratios against plain tools
	go run ./tests/bench

SIZE ?= 200000
DIR ?= .fleet
fleet: setup build  ## the sample estate with a large inventory, in a directory: SIZE=2000000 DIR=.fleet
	go run ./tests/fleet/make -size $(SIZE) -dir $(DIR)

FUZZ_TIME ?= 30s
fuzz:  ## every parser, for a while
	go test ./internal/agent/driver/qemu -run '^$$' -fuzz FuzzSpoken -fuzztime $(FUZZ_TIME) -fuzzminimizetime 2s
	go test ./core/firststart -run '^$$' -fuzz FuzzParse -fuzztime $(FUZZ_TIME) -fuzzminimizetime 2s
	go test ./core/guest -run '^$$' -fuzz FuzzLook -fuzztime $(FUZZ_TIME) -fuzzminimizetime 2s
	go test ./core/guest -run '^$$' -fuzz FuzzFree -fuzztime $(FUZZ_TIME) -fuzzminimizetime 2s
	go test ./core/disk/inflate -run '^$$' -fuzz FuzzRaw -fuzztime $(FUZZ_TIME) -fuzzminimizetime 2s
	go test ./core/disk/qcow2 -run '^$$' -fuzz FuzzOpen -fuzztime $(FUZZ_TIME) -fuzzminimizetime 2s
	go test ./core/disk/vmdk -run '^$$' -fuzz FuzzOpen -fuzztime $(FUZZ_TIME) -fuzzminimizetime 2s
	go test ./core/disk/vmdk -run '^$$' -fuzz FuzzDescriptor -fuzztime $(FUZZ_TIME) -fuzzminimizetime 2s
	go test ./core/disk/vhd -run '^$$' -fuzz FuzzOpen -fuzztime $(FUZZ_TIME) -fuzzminimizetime 2s
	go test ./core/disk/vhdx -run '^$$' -fuzz FuzzOpen -fuzztime $(FUZZ_TIME) -fuzzminimizetime 2s
	go test ./core/disk/vhdx -run '^$$' -fuzz FuzzLog -fuzztime $(FUZZ_TIME) -fuzzminimizetime 2s
	go test ./internal/nbd -run '^$$' -fuzz FuzzServer -fuzztime $(FUZZ_TIME) -fuzzminimizetime 2s
	go test ./internal/nbd -run '^$$' -fuzz FuzzClient -fuzztime $(FUZZ_TIME) -fuzzminimizetime 2s
	go test ./core/ovf -run '^$$' -fuzz FuzzParse -fuzztime $(FUZZ_TIME) -fuzzminimizetime 2s
	go test ./core/ovf -run '^$$' -fuzz FuzzArchive -fuzztime $(FUZZ_TIME) -fuzzminimizetime 2s
	go test ./core/ovf -run '^$$' -fuzz FuzzParcel -fuzztime $(FUZZ_TIME) -fuzzminimizetime 2s
	go test ./core/ovf -run '^$$' -fuzz FuzzManifest -fuzztime $(FUZZ_TIME) -fuzzminimizetime 2s
	go test ./internal/inventory -run '^$$' -fuzz FuzzTerms -fuzztime $(FUZZ_TIME) -fuzzminimizetime 2s
	go test ./internal/cimi -run '^$$' -fuzz FuzzMachine -fuzztime $(FUZZ_TIME) -fuzzminimizetime 2s

clean:
	rm -rf bin console/dist/assets console/dist/index.html
