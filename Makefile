# Two commands on a fresh machine: make demo, make test. CONTRIBUTING.md tells the others.
MINUTES ?= 10
SEED ?= 0
SECONDS_EACH ?= 30
SHELL := /bin/bash
VERSION := $(shell git describe --tags --always --dirty 2>/dev/null || echo dev)
GO_SOURCES := $(shell find cmd internal console api -name '*.go' -o -name '*.sql' -o -name '*.schema.json') go.mod go.sum
CONSOLE_SOURCES := $(shell find console/src -type f) console/index.html console/vite.config.ts console/package-lock.json
LAB_SOURCES := $(shell find lab -name '*.go') lab/go.mod lab/go.sum lab/version.ldflags
# Pinned; the newest that builds with this Go.
STATICCHECK := honnef.co/go/tools/cmd/staticcheck@v0.8.1

.PHONY: build lab host image demo demo-down test bench scale soak fuzz check generate screenshots prepare clean

build: bin/vigila

# nomsgpack leaves out a codec of the web framework that nothing here uses, and its 8 MB.
bin/vigila: $(GO_SOURCES) console/dist/index.html
	go build -tags nomsgpack -ldflags "-s -w -X main.version=$(VERSION)" -o $@ ./cmd/vigila

console/node_modules/.package-lock.json: console/package-lock.json
	cd console && npm ci --no-fund --no-audit --loglevel=error
	@touch $@

console/dist/index.html: console/node_modules/.package-lock.json $(CONSOLE_SOURCES)
	@rm -rf console/dist/assets
	cd console && npx vite build --logLevel warn

lab: bin/vigila-lab

bin/vigila-lab: $(LAB_SOURCES)
	@scripts/build-lab $@

# A real code host for the tests, built from Go modules: minutes the first time. Its tests say why they are skipped without it.
host: bin/gitea

bin/gitea: lab/host/go.mod lab/host/go.sum
	@echo "Building the code host; the first time it takes minutes"
	cd lab/host && CGO_ENABLED=1 go build -tags "sqlite sqlite_unlock_notify" -o ../../$@ code.gitea.io/gitea

# Everything running with the demo's data; stays up until Ctrl-C.
demo: build lab
	@scripts/demo

demo-down:
	@scripts/demo-down

# What the tests need of the machine: Chromium, git.
prepare:
	@scripts/prepare

test: prepare build lab
	go test ./... -count=1 -parallel 6 -timeout 40m
	cd lab && go test ./... -timeout 5m

# Measures Vigila against raw limits taken in the same run, and writes docs/performance.md. About half an hour.
bench: build lab bin/kubectl
	go run ./bench

# Many lookouts, and very many wards by simulated ones, on real API servers: half an hour, loopback only; writes docs/scale.md.
scale: build lab
	go run ./bench -scale

bin/kubectl: lab/go.mod lab/version.ldflags
	cd lab && go build -ldflags "$$(cat version.ldflags)" -o ../$@ k8s.io/kubernetes/cmd/kubectl

# Images for amd64 and arm64 as an OCI layout in bin/image, without a container engine; PUSH=REGISTRY/NAME:TAG pushes them too.
image: console/dist/index.html
	go run ./image $(if $(PUSH),-push $(PUSH))

# Plays random faults against a running service, while a checker that shares no code with it looks for a false claim.
soak: build lab
	bin/vigila-lab soak --minutes $(MINUTES) --seed $(SEED)

# Every fuzz test for a while. What one finds it keeps below testdata/fuzz, where make test plays it ever after.
fuzz:
	@for t in core/object:FuzzParse core/object:FuzzProject core/compare:FuzzDiffer core/ward:FuzzWard core/ward:FuzzDeclared core/health:FuzzParseRules render:FuzzChart render:FuzzTemplate render:FuzzArchive render:FuzzApart cluster:FuzzKubeconfig server:FuzzPush link:FuzzFrames core/kit:FuzzMake; do \
	  echo "$$t"; go test ./internal/$${t%%:*} -run xxx -fuzz "$${t##*:}\$$" -fuzztime $(SECONDS_EACH)s || exit 1; done

check: console/node_modules/.package-lock.json
	@test -z "$$(gofmt -l bench cmd image internal api console/*.go docs e2e lab)" || { gofmt -l bench cmd image internal api console/*.go docs e2e lab; echo "run gofmt -w on these"; exit 1; }
	@[ -e console/dist/.keep ] || { mkdir -p console/dist; touch console/dist/.keep; }
	go vet ./...
	cd lab && go vet ./...
	go run $(STATICCHECK) ./...
	cd console && npm run --silent check
	@scripts/check-generated

generate: console/node_modules/.package-lock.json
	go generate ./api
	go run ./docs/house
	go run ./docs/keys
	cd console && npm run --silent generate

# Takes the pictures in docs/screenshots from a demo that is up.
screenshots: build
	@scripts/screenshots

clean:
	rm -rf bin console/dist/assets console/dist/index.html console/node_modules
