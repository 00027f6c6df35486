# build: compile all · demo: run Northmere · test: every suite · bench: figures · lint: format and analyzers
SHELL := /bin/bash
ARGS ?=

.PHONY: install build console demo test bench lint clean

install:
	@scripts/install.sh demo

build: console
	@scripts/build.sh

console:
	@scripts/console.sh

demo:
	@scripts/install.sh demo
	@$(MAKE) --no-print-directory build
	@exec bin/standins/oikonom-standins demo $(ARGS)

test:
	@scripts/install.sh test
	@scripts/test.sh $(ARGS)

bench:
	@scripts/install.sh test
	@scripts/bench.sh $(ARGS)

lint:
	@dotnet format --verify-no-changes Oikonom.slnx
	@cd console && npm run --silent lint

clean:
	@rm -rf bin console/dist console/node_modules; find src tests bench -name bin -o -name obj | xargs rm -rf
