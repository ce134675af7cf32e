# Everything that anybody has to type: make demo, make example, make test.
SHELL := bash
.SHELLFLAGS := -eu -o pipefail -c
GO ?= go
BIN := bin/urgentis
CONSOLE := console/dist/index.html
GOFILES := $(shell find cmd core internal api examples console -name '*.go' -not -path '*/node_modules/*' 2>/dev/null) $(shell find internal/store/migrations examples -type f 2>/dev/null)

.PHONY: build demo example dev test fresh format check crash explore race fuzz bench screenshots generate clean setup-db setup-test

build: $(BIN)

$(BIN): $(GOFILES) $(CONSOLE) go.mod go.sum api/openapi.yaml
	CGO_ENABLED=0 $(GO) build -trimpath -o $@ ./cmd/urgentis

console/node_modules: console/package-lock.json
	cd console && npm ci --no-audit --no-fund --loglevel=error
	touch $@

$(CONSOLE): console/node_modules console/index.html console/vite.config.ts $(shell find console/src -type f 2>/dev/null)
	cd console && npm run --silent build

setup-db:
	@build/setup.sh postgresql

setup-test:
	@build/setup.sh postgresql chromium openssh-server gcc snmp bsdutils curl strace python3-aiosmtpd \
		mariadb-server-core mariadb-client-core nginx redis-server

demo: setup-db build ## the service with a simulated ferry operator around it
	$(BIN) demo

example: setup-db build ## one whole incident without people
	$(BIN) example

dev: setup-db console/node_modules ## the demo, with the console reloading as one edits
	@mkdir -p console/dist
	$(GO) build -o $(BIN) ./cmd/urgentis
	(cd console && npx vite) & trap 'kill %1' EXIT; $(BIN) demo

generate: console/node_modules ## what is generated from api/openapi.yaml, and from the kinds of entries
	$(GO) run ./build/contents api/openapi.yaml
	$(GO) generate ./api
	$(GO) run ./build/kinds console/src/composables/kinds.gen.ts
	cd console && npm run --silent types

GODIRS := api build cmd console/embed.go core internal examples test

format: console/node_modules ## the sources as make check wants them
	$(GO) tool goimports -local urgentis -w $(GODIRS)
	cd console && npm run --silent format

check: console/node_modules
	test -z "$$($(GO) tool goimports -local urgentis -l $(GODIRS))" || \
		{ $(GO) tool goimports -local urgentis -l $(GODIRS); echo "run: make format"; exit 1; }
	$(GO) vet ./...
	$(GO) tool staticcheck ./...
	MAKE=$(MAKE) sh build/generated.sh
	cd console && npm run --silent check && npm run --silent test

# Whole worlds, with every outside system played in the same process, and what holds the texts of the tree together and
# the use cases, which begin nothing beside themselves: under the race detector they take half an hour more. What they
# are made of is watched in its own tests.
WORLDS := ./internal ./internal/app ./internal/server ./internal/cli ./internal/demo ./test/browser ./test/library
# The core begins nothing beside itself and locks nothing (core/deps_test.go), so that there is nothing to race with.
CORE := ./core/...
# Packages that are tested at once: one more than there are processors, as most wait more than they reckon.
ATONCE := $$(($$(nproc) + 1))

test: setup-test check build ## everything; the race detector watches all but the worlds and the core, see make race
	trap '$(GO) run ./internal/testdb/stop' EXIT; left=0; \
	$(GO) test -race -p $(ATONCE) -count=1 -timeout 15m \
		$$($(GO) list ./... | grep -vxF "$$($(GO) list $(WORLDS) $(CORE))") || left=$$?; \
	CGO_ENABLED=0 $(GO) test -trimpath -p $(ATONCE) -count=1 -timeout 15m $(WORLDS) $(CORE) || left=$$?; \
	exit $$left

race: setup-test build ## the worlds and the core under the race detector
	trap '$(GO) run ./internal/testdb/stop' EXIT; $(GO) test -race -count=1 -timeout 60m $(WORLDS) $(CORE)

fresh: ## the same commands on bare machines: minimal Debians in folders; needs root
	build/fresh.sh $(FRESH)

crash: setup-test build ## hundreds of faults on three processes with clocks that step, and their database; prints its seed
	URGENTIS_STORM_FAULTS=$${URGENTIS_STORM_FAULTS:-300} $(GO) test -count=1 -timeout 180m -run TestStorm -v ./test/crash

explore: ## every way of two changes with two faults, and 30,000 generated runbooks in a world that counts
	URGENTIS_EXPLORE=$${URGENTIS_EXPLORE:-2,1} $(GO) test -count=1 -timeout 120m -v \
		-run 'TestEveryWayOfTwoChanges|TestTheLastSentenceIsTrue' ./core/flow -rapid.checks=$${CHECKS:-15000}
	URGENTIS_LOOKS=all $(GO) test -count=1 -timeout 30m ./core/reads

fuzz: ## every reader of outside input, one after the other, FUZZTIME each
	build/fuzz.sh $${FUZZTIME:-5m}

bench: setup-test build ## the figures, each beside its limit
	trap '$(GO) run ./internal/testdb/stop' EXIT; $(GO) test -run '^$$' -bench . -benchtime 1s ./core/flow ./core/trigger; $(GO) run ./test/bench

screenshots: setup-test build ## docs/screenshots, from the demo's data
	build/screenshots.sh

clean:
	rm -rf bin console/dist/assets console/dist/index.html console/node_modules
