# setup installs what is missing; every other target calls it first.
.PHONY: setup build demo test bench stress fuzz install deb format clean
SHELL := /bin/bash
PREFIX ?= /usr/local
DEMO ?= vembar-demo
export DOTNET_CLI_TELEMETRY_OPTOUT = 1
export DOTNET_NOLOGO = 1

setup:
	@tools/setup

# JIT=true builds for the .NET runtime instead of ahead of time: seconds instead of minutes, and for processors without AVX2.
PUBLISH = dotnet publish -c Release -o out --nologo -v quiet --no-restore $(if $(JIT),-p:JIT=true)

build: setup
	@rm -rf $(if $(wildcard out/vembar.dll),$(if $(JIT),,out),$(if $(JIT),out))
	@if [ -z "$(JIT)" ] && [ "$$(uname -m)" = x86_64 ]; then $(PUBLISH) src/Vembar.Wide; fi
	@$(PUBLISH) src/Vembar.Cli
	@dotnet publish -c Release -o out/station --nologo -v quiet --no-restore src/Vembar.Station
	@echo "built out/vembar"

demo: build
	@rm -rf "$(DEMO)"
	@out/vembar demo "$(DEMO)"

test: build
	@tools/run-tests

# Random trials with faults; STRESS="ROUNDS SEED".
stress: build
	@python3 tests/stress/stress.py out/vembar $(STRESS)

# Damaged input for every parser, for so many seconds; "FUZZ=60 SEED=7" gives the same inputs again.
FUZZ ?= 600
fuzz: setup
	@dotnet run --project tests/fuzz -c Release --no-restore -- . $(FUZZ) $(SEED)

bench: build
	@tools/setup bench
	@dotnet run --project bench/Vembar.Bench -c Release --no-restore -- $(BENCH)

install: build
	@install -d "$(DESTDIR)$(PREFIX)/lib/vembar" "$(DESTDIR)$(PREFIX)/bin"
	@cp -r out/. "$(DESTDIR)$(PREFIX)/lib/vembar/"
	@ln -sf ../lib/vembar/vembar "$(DESTDIR)$(PREFIX)/bin/vembar"
	@ln -sf ../lib/vembar/station/vembar-station "$(DESTDIR)$(PREFIX)/bin/vembar-station"
	@out/vembar help --man-pages "$(DESTDIR)$(PREFIX)/share/man" --overwrite --quiet
	@install -d "$(DESTDIR)$(PREFIX)"/share/bash-completion/completions "$(DESTDIR)$(PREFIX)"/share/zsh/site-functions \
		"$(DESTDIR)$(PREFIX)"/share/fish/vendor_completions.d
	@out/vembar completion bash > "$(DESTDIR)$(PREFIX)/share/bash-completion/completions/vembar"
	@out/vembar completion zsh > "$(DESTDIR)$(PREFIX)/share/zsh/site-functions/_vembar"
	@out/vembar completion fish > "$(DESTDIR)$(PREFIX)/share/fish/vendor_completions.d/vembar.fish"
	@echo "installed $(DESTDIR)$(PREFIX)/bin/vembar"

# Packages for Debian and Ubuntu, and a tarball; with ARCH=arm64 for that architecture, compiled on this one.
PACKAGES ?= packages
deb: build
	@$(if $(ARCH),tools/build-across "$(ARCH)")
	@tools/package-deb "$(PACKAGES)" $(ARCH)

format:
	@dotnet format --no-restore

clean:
	@rm -rf out out-arm64 packages "$(DEMO)"
	@find . -name bin -o -name obj -type d | grep -v '/.git/' | xargs rm -rf
