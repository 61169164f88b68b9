# Yard Tide. `make demo` shows it, `make test` proves it; both install what they
# need. `make help` lists the rest.
SHELL := /bin/bash
GO := CGO_ENABLED=0 go
# HEIC is decoded in a sandbox, and by no library of the system.
export GOFLAGS := -tags=nodynamic
# SQLite and codecs run in the tests as they run elsewhere, without the race detector, under which
# SQLite alone took two thirds of their time. Such a package must instantiate nothing generic of
# package sync: the linker may take its unwatched code for everybody's (docs/decisions/0025).
UNWATCHED := $(foreach p,modernc.org/sqlite/lib modernc.org/libc image/jpeg compress/flate golang.org/x/image/draw,-gcflags=$(p)=-race=false)
NPM := npm --prefix console --no-fund --no-audit --loglevel=error
SOURCES := $(shell find cmd cli client console/console.go core engine service standin -name '*.go' -o -name '*.sql')
CONSOLE := $(shell find console/src console/public console/phone-public -type f) console/index.html console/phone.html console/package-lock.json console/vite.config.js console/vite.phone.config.js

.PHONY: help demo test check build builds types shots bench soak clean
help: ## this list
	@grep -hE '^[a-z-]+:.*##' $(MAKEFILE_LIST) | sed 's/:.*## /\t/' | expand -t 10

demo: bin/yardtide ## run the demo yard; Ctrl-C ends it (its bucket is a folder until `make test` has built the S3 gateway)
	@./packages.sh ffmpeg openssh-server
	./bin/yardtide demo

test: bin/yardtide bin/versitygw ## every test, the Go ones under the race detector
	$(NPM) run --silent test
	./packages.sh chromium apache2 nginx-light libnginx-mod-http-dav-ext lighttpd lighttpd-mod-webdav openssh-server iproute2 ffmpeg dbus-daemon python3-dbusmock qemu-user-static libc6-arm64-cross curl zbar-tools libvips-tools libimage-exiftool-perl imagemagick libjpeg-turbo-progs jpeginfo libheif-examples e2fsprogs xfsprogs btrfs-progs exfatprogs exfat-fuse litmus cadaver davfs2 jq
	CGO_ENABLED=1 go test -race $(UNWATCHED) -parallel 6 -timeout 30m ./...

check: console/node_modules/.package-lock.json types ## formatting, vet, staticcheck, eslint, types, generated files up to date
	@test -z "$$(gofmt -l $$(git ls-files '*.go'))" || { echo "gofmt would change:"; gofmt -l $$(git ls-files '*.go'); exit 1; }
	go vet ./...
	go tool staticcheck ./...
	@# The system that differs most; the tests build and run the others of Linux.
	GOOS=windows GOARCH=amd64 $(GO) build -o /dev/null ./cmd/yardtide
	$(NPM) run --silent format
	$(NPM) run --silent lint
	$(NPM) run --silent typecheck
	@git diff --exit-code --stat -- docs/openapi.json docs/plan.md docs/plan.schema.json docs/record.schema.json console/src/api.gen.ts || { echo "generated files were not up to date; commit them"; exit 1; }

build: bin/yardtide ## the binary, console included

builds: console/dist/index.html ## the binary of every system that it is released for, in bin/
	for system in linux/amd64 linux/arm64 linux/arm android/arm64 darwin/arm64 windows/amd64; do \
	  GOARM=7 GOOS=$${system%/*} GOARCH=$${system#*/} $(GO) build -trimpath -ldflags '-s -w' -o bin/yardtide-$${system/\//-} ./cmd/yardtide || exit 1; done

types: console/node_modules/.package-lock.json ## generate the API document, the plan's schema and tables and the console's types
	@go run ./service/api/openapi > docs/openapi.json.new && mv docs/openapi.json.new docs/openapi.json
	@go run ./service/api/openapi record > docs/record.schema.json.new && mv docs/record.schema.json.new docs/record.schema.json
	@go run ./cmd/yardtide plan schema > docs/plan.schema.json.new && mv docs/plan.schema.json.new docs/plan.schema.json
	@go run ./core/plantext/tables docs/plan.md
	@$(NPM) run --silent types > /dev/null

shots: bin/yardtide bin/versitygw ## take docs/screenshots from the demo
	./packages.sh chromium ffmpeg openssh-server xvfb xterm imagemagick
	go run ./e2e/shots

soak: bin/yardtide bin/versitygw ## what takes long: thousands of races, hundreds of kills, and every parser fuzzed (about 2 hours)
	./packages.sh apache2 nginx-light libnginx-mod-http-dav-ext lighttpd lighttpd-mod-webdav openssh-server libheif-examples e2fsprogs xfsprogs btrfs-progs exfatprogs exfat-fuse
	YARDTIDE_ROUNDS=2000 go test -timeout 90m -run 'TestConformance/.*/four_services' ./engine/destination/destinationtest
	YARDTIDE_EXCHANGES=all go test -timeout 60m -count=8 -run 'TestADiskIs|TestTheDiskBehind' ./engine/device
	YARDTIDE_PULLS=200 YARDTIDE_ROUNDS=20 go test -timeout 90m -count=1 -run 'TestACardReallyPulled|TestFilesThatMove' ./engine/device
	YARDTIDE_HISTORIES=10000 go test -timeout 60m -count=1 -run TestNothingLeaves ./engine/makeroom
	YARDTIDE_PHONES=20 go test -timeout 30m -count=1 -run TestManyPhones ./service/handover
	YARDTIDE_KILLS=200 go test -timeout 90m -count=1 -run TestKilledAgainAndAgain ./e2e
	YARDTIDE_PHONES=20 YARDTIDE_KILLS=100 go test -timeout 30m -count=1 -run TestPhonesHandOverThroughKills ./e2e
	for target in FuzzParse=./core/plantext FuzzMembers=./engine/destination/webdav FuzzRead=./engine/probe FuzzReadIndex=./engine/upkeep FuzzRequest=./service/api FuzzReduce=./engine/rendition FuzzHEIF=./engine/rendition FuzzXMP=./engine/probe; do \
	  go test -run '^$$' -fuzz "^$${target%%=*}\$$" -fuzztime 10m $${target#*=} || exit 1; done

bench: bin/yardtide bin/versitygw ## speed and size against references in the same run (about 15 minutes)
	./packages.sh apache2 openssh-server openssh-client curl libvips-tools libheif-examples libimage-exiftool-perl
	(go test -run "^$$" -bench . -benchtime 1x -timeout 60m ./bench; go test -run "^$$" -bench . ./core/gate) | go run ./bench/table

clean: ## remove what was built
	rm -rf bin .demo console/node_modules console/dist/assets console/dist/phone console/dist/*.html console/dist/*.svg

bin/yardtide: $(SOURCES) go.mod go.sum console/dist/index.html
	$(GO) build -trimpath -ldflags '-s -w' -o $@ ./cmd/yardtide

# An S3 gateway over a folder, for the demo and the tests; the product does not hold it.
bin/versitygw: tools/go.mod tools/go.sum
	cd tools && $(GO) build -trimpath -ldflags '-s -w' -o ../$@ github.com/versity/versitygw/cmd/versitygw

console/dist/index.html: $(CONSOLE) console/node_modules/.package-lock.json
	$(NPM) run --silent build > /dev/null

console/node_modules/.package-lock.json: console/package-lock.json
	@command -v go >/dev/null || { echo "Go is missing: install Go 1.26 or later (https://go.dev/dl)"; exit 1; }
	@command -v npm >/dev/null || { echo "npm is missing: install Node.js 20 or later"; exit 1; }
	$(NPM) ci
