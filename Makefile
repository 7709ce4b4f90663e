# make demo   starts the harbour and serves it (PORT=8420 moves it, FRESH=1 makes its data again,
#             LIVE=1 has craft come in and leave)
# make test   checks and tests everything
# make build  builds bin/osprey with its console (CONSOLE=no leaves it out: only Go is needed)
# make faults puts every kind of store in every fault, with many callers
# make bench  measures Osprey beside handlers written by hand, in
#             twenty-five minutes; make bench-quick in a minute

PORT ?= 7420
STATICCHECK := honnef.co/go/tools/cmd/staticcheck@v0.8.2

.PHONY: demo test faults build console documents tools tools-test lint screenshots bench bench-quick clean

demo: build documents
	@exec bin/osprey demo --port $(PORT) $(if $(FRESH),--fresh) $(if $(LIVE),--live) $(if $(SCALE),--scale $(SCALE))

test: tools-test build documents lint
	go test -timeout 20m ./...
	go test -timeout 20m -race ./core/execute ./project ./stores/guard
	go test -timeout 20m -race -run ManyCallers ./service

# Every kind of store in every fault, with many callers, in some minutes.
faults: tools-test documents
	go test -timeout 30m -count 1 ./faults -whole

# Without what a debugger needs, which is a third of it.
build: $(if $(filter no,$(CONSOLE)),,tools console)
	go build -trimpath -ldflags '-s -w -X main.built=$(shell git describe --tags --always --dirty 2> /dev/null)' -o bin/osprey ./cmd/osprey

tools:
	@scripts/tools.sh

tools-test:
	@scripts/tools.sh browser editor mariadb race snippets

# The console is built again when one of its sources has changed.
console: console/dist/index.html
console/node_modules/.package-lock.json: console/package.json console/package-lock.json | tools
	cd console && npm ci --no-audit --no-fund --loglevel=error
	@touch $@
# The types of what the service answers are made of its description.
console/src/api.d.ts: service/openapi.yaml console/node_modules/.package-lock.json
	cd console && npm run --silent types > /dev/null
	@touch $@
console/dist/index.html: console/src/api.d.ts console/node_modules/.package-lock.json console/index.html console/vite.config.ts console/tsconfig.json $(shell find console/src console/public -type f ! -name api.d.ts)
	cd console && npx vite build --logLevel warn
	@touch $@

# The demo's document server is a module of its own and takes some minutes to
# build the first time.
documents: bin/osprey-documents
bin/osprey-documents: demo/documents/main.go demo/documents/go.mod demo/documents/go.sum | tools
	@echo "building the demo's document server; the first time takes a few minutes"
	cd demo/documents && go build -o ../../bin/osprey-documents .

lint: console console/src/api.d.ts
	@unformatted=$$(gofmt -l $$(git ls-files '*.go')); [ -z "$$unformatted" ] || { echo "not gofmt-ed: $$unformatted"; exit 1; }
	go vet ./...
	go run $(STATICCHECK) ./...
	cd console && npm run --silent check

# The pictures of docs/screenshots, from a demo that is running.
screenshots: build tools-test
	go run ./demo/shots

# The plots of the growth are written to docs/screenshots.
bench: tools-test documents
	go build -o bin/osprey-bench ./bench
	bin/osprey-bench --plots docs/screenshots

bench-quick: tools
	go build -o bin/osprey-bench ./bench
	bin/osprey-bench --quick

clean:
	rm -rf bin console/node_modules console/dist/* console/src/api.d.ts
