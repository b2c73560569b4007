SHELL := /bin/bash
.DEFAULT_GOAL := help
GO ?= go
export GOFLAGS ?=

.PHONY: help demo tour test soak build console lint bench quality generate verify prepare-server prepare-bench prepare

help: ## list the targets
	@grep -hE '^[a-z-]+:.*## ' $(MAKEFILE_LIST) | sed -E 's/:.*## /\t/' | expand -t 12

demo: prepare-server build ## run the service with the Larkspur Observatories until Ctrl-C
	@exec bin/twinning demo

tour: prepare-server build ## play the whole story through the command line; exit 0 only if it comes out right
	@demo/tour.sh

test: prepare internal/connector/scim/testdata/otherserver/node_modules/.installed build lint verify ## install, build, lint, verify generated code, run every test
	cd console && npm run -s test
	$(GO) test -race -timeout 60m ./...
	demo/tour.sh > /dev/null

soak: prepare build ## the long and random proofs
	$(GO) test -timeout 90m -count=1 ./internal/service -run 'TestPromise|TestEveryFailure' -history 1000 -histories 3000 -every 1
	$(GO) test -timeout 90m -count=1 ./internal/service -run 'TestUnitsUnderFire' -fires 500
	$(GO) test -timeout 60m -count=1 ./internal/execution -rapid.checks=20000 -rapid.seed=0
	$(GO) test -timeout 60m -count=1 ./internal/core/reconcile ./internal/core/charter ./internal/core/pairing/evidence ./internal/core/pairing/assignment ./internal/core/pairing/likeness -rapid.checks=20000 -rapid.seed=0
	$(GO) test -timeout 60m -count=5 ./internal/e2e -run 'TestKilledInMidRun|TestTwoNodesTwoLanes|TestStoppedBetweenRetries'
	$(GO) test -timeout 90m -count=1 ./internal/e2e -run 'TestStorm' -storms 10 -storm-size 500 -storm-hits 40
	$(GO) test -timeout 30m -count=1 ./internal/e2e -run 'TestScroll' -scroll 10000 -v
	$(GO) test -timeout 30m -count=1 ./internal/e2e -run 'TestSiege' -siege 5m -v
	$(GO) test -timeout 60m -count=1 ./internal/e2e -run 'TestMalformed' -rounds 2
	$(GO) test -fuzz=FuzzOpen -fuzztime=2m ./internal/format/csvfile
	$(GO) test -fuzz=FuzzOpen -fuzztime=2m ./internal/format/anyfile
	$(GO) test -fuzz=FuzzShape -fuzztime=1m ./internal/core/record
	$(GO) test -fuzz=FuzzComparators -fuzztime=2m ./internal/core/pairing/likeness
	$(GO) test -fuzz=FuzzKeys -fuzztime=1m ./internal/core/pairing/evidence
	$(GO) test -fuzz=FuzzNormalisers -fuzztime=2m ./internal/core/record
	$(GO) test -fuzz=FuzzAddressCodings -fuzztime=1m ./internal/core/record
	$(GO) test -fuzz=FuzzParse -fuzztime=2m ./internal/core/charter
	$(GO) test -fuzz=FuzzFunctions -fuzztime=2m ./internal/core/charter

build: console ## build bin/twinning with the console in it
	$(GO) build -o bin/twinning ./cmd/twinning

console: console/node_modules/.installed ## build the console into console/dist
	@if [[ ! -f console/dist/index.html || -n "$$(find console/src console/index.html console/vite.config.ts console/public -newer console/dist/index.html -print -quit)" ]]; then cd console && npm run -s build; fi

console/node_modules/.installed: console/package.json console/package-lock.json
	cd console && npm ci --no-audit --no-fund --loglevel=error
	@touch $@

OTHER := internal/connector/scim/testdata/otherserver

# a SCIM server of another library, for the connector's tests alone
$(OTHER)/node_modules/.installed: $(OTHER)/package.json $(OTHER)/package-lock.json
	cd $(OTHER) && npm ci --no-audit --no-fund --loglevel=error
	@touch $@

lint: console/node_modules/.installed ## gofmt, go vet, staticcheck, who imports whom, dependencies, and the console's checks
	@test -z "$$(gofmt -l bench cmd console/*.go demo internal)" || { gofmt -l bench cmd demo internal; echo "run gofmt -w on these"; exit 1; }
	$(GO) vet ./...
	$(GO) tool -modfile=tools.mod staticcheck ./...
	$(GO) test ./internal/archtest
	cd console && npm run -s check

bench: prepare-bench build ## measure the offline reconciliation beside its anchor
	$(GO) run ./bench

quality: build ## measure pairing against the truth of made populations
	$(GO) run ./bench -only quality
	$(GO) run ./bench -only quality -trial -noise medium

generate: console/node_modules/.installed ## regenerate code from api/openapi.yaml
	$(GO) tool oapi-codegen -config internal/httpapi/openapi/config.yaml api/openapi.yaml
	$(GO) tool oapi-codegen -config internal/apiclient/config.yaml api/openapi.yaml
	cd console && npm run -s generate

verify: ## prove that generated code is current
	@scripts/verify.sh

prepare-server:
	@scripts/prepare.sh server directory

prepare-bench:
	@scripts/prepare.sh server directory clients

prepare:
	@scripts/prepare.sh server directory browser
