# Two commands matter: make demo, and make test. Both install what they need and work on a fresh Debian machine with Go and Node.
SHELL := /bin/bash
.SHELLFLAGS := -euo pipefail -c
APT_TEST := bind9 tshark chromium
SUDO := $(shell [ "$$(id -u)" = 0 ] || echo sudo)
WEB_SOURCES := $(shell find web/src web/index.html web/package-lock.json web/vite.config.ts web/tsconfig.json 2>/dev/null)

.PHONY: demo test build bench screenshots lint apt-test docs

demo: build
	bin/yl demo

build: web/dist/index.html
	go build -o bin/yl ./cmd/yl

web/node_modules/.done: web/package-lock.json
	cd web && npm ci --prefer-offline --no-progress
	touch $@

web/dist/index.html: web/node_modules/.done $(WEB_SOURCES)
	cd web && npm run build --silent
	touch web/dist/.gitkeep

# What the tests need of Debian; nothing is done where it is there already.
# What tests run against is started by the tests, on loopback: nothing that is installed here may start by itself.
apt-test:
	@for p in $(APT_TEST); do dpkg-query -W -f='$${Status}' $$p 2>/dev/null | grep -q 'ok installed' || missing="$${missing:-} $$p"; done; \
	if [ -n "$${missing:-}" ]; then \
	  $(SUDO) apt-get update -q; \
	  policy=/usr/sbin/policy-rc.d; \
	  if [ ! -e $$policy ]; then trap "$(SUDO) rm -f $$policy" EXIT; printf '#!/bin/sh\nexit 101\n' | $(SUDO) tee $$policy >/dev/null; $(SUDO) chmod 755 $$policy; fi; \
	  $(SUDO) env DEBIAN_FRONTEND=noninteractive apt-get install -y -q --no-install-recommends $$missing; \
	fi

test: apt-test build lint
	cd web && npm run test --silent
	go test -parallel 8 ./...

lint: web/node_modules/.done web/dist/index.html
	@unformatted=$$(gofmt -l cmd internal demo web/*.go); [ -z "$$unformatted" ] || { echo "not formatted: $$unformatted"; exit 1; }
	go vet ./...
	cd web && npm run check --silent
	@cd web && npx openapi-typescript ../docs/openapi.yaml 2>/dev/null | cmp -s - src/schema.d.ts || { echo 'web/src/schema.d.ts is old: make docs'; exit 1; }

# What is made from the Go types: the plan's reference, the API's document, the console's types of it. Tests fail while they are old.
docs:
	go run ./internal/core/plan/plandoc > docs/plan.md
	go run ./internal/service/apidoc > docs/openapi.yaml
	cd web && npx openapi-typescript ../docs/openapi.yaml -o src/schema.d.ts

bench:
	go test -run '^$$' -bench . -benchmem ./internal/core/...
	go test -run '^$$' -bench Sizes -benchtime 1x ./internal/browsertest

screenshots: apt-test build
	YL_SCREENSHOTS=$(CURDIR)/docs/screenshots go test -count=1 -run 'TestConsole|TestPlanSteps' ./internal/browsertest
