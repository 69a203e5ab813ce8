# Two commands matter: make demo, and make test. Both install what they need and work on a fresh Debian machine with Go and Node.
SHELL := /bin/bash
.SHELLFLAGS := -euo pipefail -c
APT_TEST := bind9 tshark chromium nftables iproute2 iputils-ping conntrack dnsmasq-base curl python3 procps openssl scep slapd ldap-utils eapoltest freeradius freeradius-utils \
	samba samba-ad-dc samba-ad-provision samba-dsdb-modules winbind ldb-tools python3-setproctitle acl attr osslsigncode
APT_CHECK := gcc libc6-dev debootstrap systemd dbus
VERSION := $(shell sed -n 's/^## \([0-9][^ ]*\).*/\1/p' CHANGELOG.md | head -1)
STATICCHECK := honnef.co/go/tools/cmd/staticcheck@v0.8.2
GOFUMPT := mvdan.cc/gofumpt@v0.12.0
NFPM := github.com/goreleaser/nfpm/v2/cmd/nfpm@v2.48.0
FUZZTIME ?= 60s
FUZZLIMIT ?= 30m
# Packages in which several goroutines meet.
RACED := gateway tunnel/ikev2 testkit/cleartunnel core/reach core/check core/session store people eaptls people/directory people/remote radius app/... httpapi agent/... ready backup probe userstack lab instance core/ike core/esp core/eap core/forward core/pool
SUDO := $(shell [ "$$(id -u)" = 0 ] || echo sudo)
WEB_SOURCES := $(shell find web/src web/index.html web/package-lock.json web/vite.config.ts web/tsconfig.json 2>/dev/null)

.PHONY: demo test check fuzz fuzz-long build bench bench-works screenshots lint format package apt-test apt-check docs mistakes

demo: build
	bin/yl demo

build: web/dist/index.html
	CGO_ENABLED=0 go build -buildvcs=auto -ldflags '-X yellowlantern/internal/cli.version=$(VERSION)' -o bin/yl ./cmd/yl

web/node_modules/.done: web/package-lock.json
	cd web && npm ci --prefer-offline --no-progress
	touch $@

web/dist/index.html: web/node_modules/.done $(WEB_SOURCES)
	cd web && npm run build --silent
	touch web/dist/.gitkeep

# What the tests need of Debian; nothing is done where it is there already.
# What tests run against is started by the tests, on loopback: nothing that is installed here may start by itself.
apt-test: APT := $(APT_TEST)
apt-check: APT := $(APT_CHECK)
apt-test apt-check:
	@for p in $(APT); do dpkg-query -W -f='$${Status}' $$p 2>/dev/null | grep -q 'ok installed' || missing="$${missing:-} $$p"; done; \
	if [ -n "$${missing:-}" ]; then \
	  $(SUDO) apt-get update -q; \
	  policy=/usr/sbin/policy-rc.d; \
	  if [ ! -e $$policy ]; then trap "$(SUDO) rm -f $$policy" EXIT; printf '#!/bin/sh\nexit 101\n' | $(SUDO) tee $$policy >/dev/null; $(SUDO) chmod 755 $$policy; fi; \
	  $(SUDO) env DEBIAN_FRONTEND=noninteractive apt-get install -y -q --no-install-recommends $$missing; \
	fi

test: apt-test build lint
	cd web && npm run test --silent
	go test -parallel 8 -timeout 15m ./...

# The race detector where goroutines meet, with the end-to-end tests that need no browser; mistakes in what a kernel is told, which must be
# noticed; the package in a clean Debian tree, a clock that is set, a hundred kills; and every fuzz target for a moment.
check: apt-check apt-test bin/resolved/.done build
	CGO_ENABLED=1 go test -race -timeout 20m $(RACED:%=./internal/%)
	CGO_ENABLED=1 go test -race -timeout 25m -parallel 4 -run 'Session|CommitsLose|TCP|Watching|Recording|Limits' ./internal/e2e
	YL_KERNEL_MUTATIONS=1 go test -count=1 -parallel 4 -timeout 20m -run TestKernelNoticesMutations ./internal/judge
	YL_PACKAGE=1 YL_CLOCK=1 YL_KILLS=100 YL_RESOLVED=$(CURDIR)/bin/resolved go test -count=1 -timeout 20m -run 'TestPackage|TestClockIsSet|TestKilledAtRandom|TestSystemResolver' ./internal/hosttest
	$(MAKE) bench-works
	$(MAKE) fuzz FUZZTIME=5000x

# The system's own resolver, unpacked and not installed: its package would change how this machine asks for names.
bin/resolved/.done:
	mkdir -p bin/resolved
	cd bin/resolved && apt-get download -q systemd-resolved && dpkg -x systemd-resolved_*.deb . && rm systemd-resolved_*.deb
	touch $@

# What is said of mistakes on real hosts, as a page.
mistakes: apt-test build
	YL_MISTAKES=$(CURDIR)/docs/mistakes.md go test -count=1 -run TestMistakes ./internal/hosttest

# Every fuzz target for a night.
fuzz-long:
	$(MAKE) fuzz FUZZTIME=20m FUZZLIMIT=60m

# Every fuzz target for a set time, such as make fuzz FUZZTIME=10m, or for a number of inputs, as tests have it: the toolchain sometimes
# takes the end of a set time for a failure, which is let pass where it found nothing.
fuzz:
	@go list -f '{{if or .TestGoFiles .XTestGoFiles}}{{.Dir}}{{end}}' ./internal/... | while read -r dir; do \
	  for target in $$(grep -hoE '^func Fuzz[A-Za-z]+' "$$dir"/*_test.go | cut -d' ' -f2 || true); do \
	    echo "fuzz $$target in $${dir#$(CURDIR)/}"; (cd "$$dir" && go test -run '^$$' -fuzz "^$$target\$$" -fuzztime $(FUZZTIME) -fuzzminimizetime 100x -timeout $(FUZZLIMIT) . </dev/null >"$(CURDIR)/bin/fuzz.log" 2>&1) || \
	    { grep -q 'context deadline exceeded' bin/fuzz.log && ! grep -qE 'Failing input|panic|hung' bin/fuzz.log; } || { cat bin/fuzz.log; exit 1; }; \
	  done; \
	done

# The Debian package, for this machine's kind, with what is made from the command tree.
WIRE = $(shell sed -n 's/^const Wire = //p' internal/agent/wire.go)
package: build
	mkdir -p bin/package
	bin/yl manual bin/package
	gzip -9nf bin/package/yl.8
	bin/yl completion bash > bin/package/yl.bash
	bin/yl completion zsh > bin/package/_yl
	bin/yl completion fish > bin/package/yl.fish
	sed 's/@WIRE@/$(WIRE)/' packaging/preinst > bin/package/preinst
	VERSION=$(VERSION) ARCH=$$(dpkg --print-architecture) go run $(NFPM) package -f packaging/nfpm.yaml -p deb -t bin/

lint: web/node_modules/.done web/dist/index.html
	@unformatted=$$(go run $(GOFUMPT) -l cmd internal demo web/*.go); [ -z "$$unformatted" ] || { echo "not formatted, make format does it: $$unformatted"; exit 1; }
	go vet ./...
	go run $(STATICCHECK) ./...
	go test ./internal/layering
	cd web && npm run check --silent && npm run lint --silent
	@cd web && npx openapi-typescript ../docs/openapi.yaml 2>/dev/null | cmp -s - src/schema.d.ts || { echo 'web/src/schema.d.ts is old: make docs'; exit 1; }

format: web/node_modules/.done
	go run $(GOFUMPT) -w cmd internal demo web/*.go
	cd web && npx prettier --write --log-level warn . && npx eslint --fix .

# What is made from the Go types: the plan's reference, the API's document, the console's types of it. Tests fail while they are old.
docs:
	go run ./internal/core/plan/plandoc > docs/plan.md
	go run ./internal/core/devices/devicedoc > docs/devices.md
	go run ./internal/core/reason/reasondoc > docs/reasons.md
	go run ./internal/httpapi/apidoc > docs/openapi.yaml
	cd web && npx openapi-typescript ../docs/openapi.yaml -o src/schema.d.ts

# Everything that docs/benchmarks.md tells, in one run of about a quarter of an hour, on a machine that does nothing else; its tables are written
# from what was measured. What needs root or network namespaces says so where there are none. make bench PROFILE=/tmp/profiles keeps a
# profile of each package.
BENCHES = core/esp core/ike core/forward core/reach core/check app/computing connection tunnel/ikev2 testkit/cleartunnel store people people/directory people/remote hosttest browsertest e2e
bench: apt-test build
	mkdir -p bin/bench $(PROFILE)
	for x in $(BENCHES); do \
	  name=$$(echo $$x | tr / -); once=; count=3; case $$x in tunnel/*|testkit/*|hosttest|browsertest|e2e) once='-benchtime 1x'; count=1;; esac; \
	  go test -run '^$$' -bench . -benchmem $$once -count $$count -timeout 60m $(if $(PROFILE),-cpuprofile $(PROFILE)/$$name.prof -o $(PROFILE)/$$name.test) ./internal/$$x | tee bin/bench/$$name.txt || exit 1; \
	done
	go run ./internal/testkit/benchdoc docs/benchmarks.md 'bin/bench/*.txt'

# Each benchmark once and small, so that none rots.
bench-works: build
	go test -short -run '^$$' -bench . -benchtime 1x -timeout 20m $(BENCHES:%=./internal/%)

screenshots: apt-test build
	YL_SCREENSHOTS=$(CURDIR)/docs/screenshots go test -count=1 -run 'TestConsole|TestPlanSteps|TestHandoverPage' ./internal/browsertest
