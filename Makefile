# build: compile all · demo: run Northmere · test: every suite · fuzz: parsers under attack · mutants: what tests notice · chaos: what kills may do · bench: figures · lint: format and analyzers
SHELL := /bin/bash
ARGS ?=

.PHONY: install build console demo test fuzz mutants chaos bench lint clean

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

# make fuzz ARGS="PARSER --seconds 60"
fuzz:
	@dotnet build tests/Fuzz/Oikonom.Fuzz.Tests.csproj -c Debug -p:RunAnalyzers=false --nologo -v quiet -clp:ErrorsOnly
	@tests/Fuzz/bin/Debug/net10.0/Oikonom.Fuzz.Tests fuzz $(ARGS)

# make mutants ARGS=Planning, or ARGS=Approval/Standing
mutants:
	@scripts/mutants.sh $(ARGS)

# make chaos ARGS=2000: three nodes, one killed each second, while so many joiners are carried out
chaos: build
	@dotnet build tests/Service -c Debug -p:RunAnalyzers=false --nologo -v quiet -clp:ErrorsOnly
	@OIKONOM_CHAOS=$(or $(ARGS),2000) tests/Service/bin/Debug/net10.0/Oikonom.Service.Tests -noColor -noLogo -class "*.ChaosTests"

bench:
	@scripts/install.sh test
	@scripts/bench.sh $(ARGS)

lint:
	@dotnet tool restore >/dev/null
	@dotnet csharpier check .
	@scripts/width.sh
	@dotnet format style --verify-no-changes Oikonom.slnx
	@cd console && npm run --silent lint

clean:
	@rm -rf bin console/dist console/node_modules; find src tests bench -name bin -o -name obj | xargs rm -rf
