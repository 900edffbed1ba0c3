# What there is to do, each by one name. Needed beforehand: Go and Node with npm. "make test" and
# "make screenshots" install Debian packages that they miss, and say so.

BINARY := bin/kindred
CONSOLE_SOURCES := $(shell find web/src web/public -type f ! -name contract.ts) api/openapi.yaml web/index.html web/vite.config.ts web/tsconfig.json web/package-lock.json
GO_SOURCES := $(shell find api cmd demo internal web/*.go -name '*.go' -o -name '*.sql' -path '*/migrations/*' -o -path 'demo/models/*' -type f) api/openapi.yaml go.mod go.sum
export CGO_ENABLED ?= 0
# Leaves out a format that Gin could speak and the gate does not; building it takes a third of the time.
export GOFLAGS := -tags=nomsgpack $(GOFLAGS)

# The systems that the gate is built for.
SYSTEMS := linux/amd64 linux/arm64 darwin/amd64 darwin/arm64 windows/amd64 windows/arm64
BUILD := go build -trimpath -ldflags "-s -w"

.PHONY: build demo test race mutants lint fuzz bench generate arm64 avxvnni chromium screenshots soak release release-check clean

build: $(BINARY)

$(BINARY): $(GO_SOURCES) web/dist/index.html
	$(BUILD) -o $@ ./cmd/kindred

web/dist/index.html: web/node_modules/.package-lock.json $(CONSOLE_SOURCES)
	cd web && npm run build
	@touch $@

web/node_modules/.package-lock.json: web/package-lock.json
	cd web && npm ci
	@touch $@

# The gate with its sample model, on 127.0.0.1:7717.
demo: build
	@$(BINARY) demo

test: lint build chromium arm64 avxvnni
	go test -timeout 10m ./...
	$(MAKE) fuzz

# The race detector needs cgo, and with it a C compiler; the tests of the network alone are left out, being slow under it.
race:
	CGO_ENABLED=1 go test -race -short $(shell go list ./... | grep -v -e /internal/model -e /e2e)

# Changes lines that guard something, one at a time, and sees whether a test fails; about ten minutes. ONLY='owner key' tries the
# claims that fit an expression.
mutants: web/dist/index.html
	go run ./tools/mutants -only '$(ONLY)'

lint: web/dist/index.html
	@test -z "$$(gofmt -l api cmd demo e2e internal tools web/*.go)" || { echo "not gofmt'ed:"; gofmt -l api cmd demo e2e internal tools web/*.go; exit 1; }
	go vet ./...
	go vet -tags nomsgpack,purego ./internal/tensor
	go run ./tools/vet $(SYSTEMS)
	go tool staticcheck ./...
	cd web && npm run check

# Each fuzz target for a few seconds, which are counted in executions, since a target that is timed may fail when its
# time is up in the middle of one; FUZZTIME=10m for longer.
FUZZTIME ?= 30000x
fuzz:
	@set -e; for target in internal/weights/gguf:FuzzParse internal/weights/safetensors:FuzzHeader internal/weights/safetensors:FuzzConfig internal/weights/safetensors:FuzzTokenizer internal/tokenizer:FuzzEncode internal/tokenizer:FuzzExpression internal/config:FuzzConfiguration internal/fetch:FuzzLinks internal/exchange:FuzzDecode internal/ledger:FuzzJournal internal/runner/remote:FuzzTextPiece internal/runner/remote:FuzzStream internal/runner/remote:FuzzLine internal/difference:FuzzWords internal/suite:FuzzParse internal/jinja:FuzzParse internal/reading:FuzzRead internal/grammar:FuzzCompile internal/server:FuzzPassedForm internal/dialect/field:FuzzParse internal/dialect/field:FuzzMembers internal/ledger:FuzzRedaction internal/dialect/chat:FuzzDecode internal/dialect/completion:FuzzDecode internal/dialect/generate:FuzzDecode internal/dialect/embedding:FuzzDecode internal/dialect/rerank:FuzzDecode internal/dialect/response:FuzzDecode internal/picture:FuzzDecode internal/kv:FuzzRestore internal/tool:FuzzBound internal/tool/mcp:FuzzSaw internal/fleet:FuzzTexts internal/fleet:FuzzHello internal/fleet:FuzzMessages internal/store:FuzzApply internal/server:FuzzRelayed; do \
		echo "fuzzing $$target for $(FUZZTIME)"; \
		go test ./$${target%%:*} -run '^$$' -fuzz "^$${target##*:}\$$" -fuzztime $(FUZZTIME); \
	done

# The assembly of the kernels, and what the console has from tables of the program.
generate:
	go run ./internal/tensor/kernelgen internal/tensor
	go run ./tools/tables web/src/tables.json

# The kernels of the other processor, under emulation.
arm64:
	@command -v qemu-aarch64 >/dev/null || sh tools/install.sh qemu-user
	GOARCH=arm64 go test -exec qemu-aarch64 -run 'Kernel|Exp' ./internal/tensor

# The kernels of AVX-VNNI, whose instruction processors with AVX-512 have in another form; where there is neither, nothing is tried.
avxvnni:
	@mkdir -p bin/_avxvnni && go run ./internal/tensor/kernelgen -overlay bin/_avxvnni/list.json internal/tensor
	go test -overlay bin/_avxvnni/list.json -run 'Kernel' ./internal/tensor

bench:
	go test -run '^$$' -bench . ./internal/...

# The browser that the console is tested in.
chromium:
	@command -v chromium >/dev/null || sh tools/install.sh chromium

screenshots: build chromium
	@for p in Xvfb xterm import xdotool; do command -v $$p >/dev/null || { sh tools/install.sh xvfb xterm imagemagick xdotool fonts-dejavu-core; break; }; done
	go run ./tools/screenshots

# Ten minutes of mixed use, cancels, slow readers, bad input, stops and kills; the report is docs/reliability.md.
soak: build
	go run ./tools/soak --report docs/reliability.md

# A binary for each system, and their checksums. The same commit gives the same bytes wherever it is built.
release: web/dist/index.html
	@rm -rf release && mkdir release
	@set -e; for system in $(SYSTEMS); do \
		os=$${system%/*}; out=release/kindred-$$os-$${system#*/}; [ $$os != windows ] || out=$$out.exe; \
		echo "building $$out"; \
		GOOS=$$os GOARCH=$${system#*/} $(BUILD) -o $$out ./cmd/kindred; \
	done
	@cd release && sha256sum kindred-* >SHA256SUMS && cat SHA256SUMS

# Builds the release of the last commit twice, in two folders, the second time with nothing built before, and compares.
release-check:
	@sh tools/release-check.sh

clean:
	rm -rf bin release web/node_modules web/dist/assets web/dist/index.html
