# Every target installs the packages that it needs and that are missing (tools/setup).
.PHONY: setup build demo test lint bench stress fuzz install deb format clean
SHELL := /bin/bash
PREFIX ?= /usr/local
DEMO ?= vembar-demo
export DOTNET_CLI_TELEMETRY_OPTOUT = 1
export DOTNET_NOLOGO = 1

# For a machine without a network later on: everything that any target needs.
setup:
	@tools/setup build test test-all bench
	@tools/step "restoring packages of .NET" dotnet restore Vembar.slnx --nologo -v quiet

# Compiled ahead of time into out, for processors with AVX2; with JIT=true for the .NET runtime into out-runtime, which takes seconds.
OUT = $(if $(JIT),out-runtime,out)
build:
	@tools/setup $(if $(JIT),demo,build)
	@tools/build $(if $(JIT),runtime,ahead)
	@echo "built $(OUT)/vembar"

demo:
	@tools/setup demo
	@tools/build program
	@rm -rf "$(DEMO)"
	@out-runtime/vembar demo "$(DEMO)"

# The quick set; with ALL=1 the slow set as well, which tests the program that is compiled ahead of time.
test:
	@tools/setup test $(if $(ALL),test-all)
	@tools/build all
	@$(if $(ALL),tools/build ahead)
	@tools/run-tests $(if $(ALL),all,quick)

lint:
	@tools/lint

# Random trials with faults; STRESS="ROUNDS SEED", or STRESS="60s" for a minute.
stress: build
	@tools/setup stress
	@python3 tests/stress/stress.py out/vembar $(STRESS)

# Damaged input for every parser, for so many seconds; "FUZZ=60 SEED=7" gives the same inputs again.
FUZZ ?= 600
fuzz:
	@tools/setup demo
	@dotnet run --project tests/fuzz -c Release -- . $(FUZZ) $(SEED)

bench: build
	@tools/setup bench
	@dotnet run --project bench/Vembar.Bench -c Release -- $(BENCH)

install: build
	@install -d "$(DESTDIR)$(PREFIX)/lib/vembar" "$(DESTDIR)$(PREFIX)/bin"
	@cp -r $(OUT)/. "$(DESTDIR)$(PREFIX)/lib/vembar/"
	@ln -sf ../lib/vembar/vembar "$(DESTDIR)$(PREFIX)/bin/vembar"
	@ln -sf ../lib/vembar/station/vembar-station "$(DESTDIR)$(PREFIX)/bin/vembar-station"
	@$(OUT)/vembar help --man-pages "$(DESTDIR)$(PREFIX)/share/man" --overwrite --quiet
	@install -d "$(DESTDIR)$(PREFIX)"/share/bash-completion/completions "$(DESTDIR)$(PREFIX)"/share/zsh/site-functions \
		"$(DESTDIR)$(PREFIX)"/share/fish/vendor_completions.d
	@$(OUT)/vembar completion bash > "$(DESTDIR)$(PREFIX)/share/bash-completion/completions/vembar"
	@$(OUT)/vembar completion zsh > "$(DESTDIR)$(PREFIX)/share/zsh/site-functions/_vembar"
	@$(OUT)/vembar completion fish > "$(DESTDIR)$(PREFIX)/share/fish/vendor_completions.d/vembar.fish"
	@echo "installed $(DESTDIR)$(PREFIX)/bin/vembar"

# Packages for Debian and Ubuntu, and a tarball; with ARCH=arm64 for that architecture, compiled on this one.
PACKAGES ?= packages
deb: build
	@$(if $(ARCH),tools/build-across "$(ARCH)")
	@tools/package-deb "$(PACKAGES)" $(ARCH)

format:
	@dotnet format --no-restore

clean:
	@rm -rf out out-runtime out-arm64 packages TestResults "$(DEMO)"
	@find . -name bin -o -name obj -type d | grep -v '/.git/' | xargs rm -rf
