# Two commands do everything on a fresh machine: make demo, make test.
SHELL := /bin/bash
PYTHON ?= python3.11
# Compiled modules are kept: without them every process of the service compiles all of its source again.
unexport PYTHONDONTWRITEBYTECODE
BIN := .venv/bin
# In memory where that is possible. Three workers on two cores, because each waits now and then. Workers take tests from each other at the end.
PYTEST = TMPDIR=$$(test -w /dev/shm && echo /dev/shm || echo /tmp) $(BIN)/python -m pytest -n 3 --dist worksteal
CONSOLE := src/dravo/web/console/built/index.html
SOURCES := $(shell find docs/guides docs/reference console/src console/public console/index.html console/package-lock.json console/vite.config.ts -type f 2>/dev/null)

.PHONY: setup demo demo-fresh test test-quick test-nightly test-order lint lint-python lint-console format bench screenshots types clean

setup: .made/python $(CONSOLE)

.made/machine: tools/check_machine.sh
	@tools/check_machine.sh run
	@mkdir -p .made && touch $@

.made/test-machine: tools/check_machine.sh .made/machine
	@tools/check_machine.sh test
	@touch $@

.made/python: requirements.lock pyproject.toml .made/machine
	@echo "Installing Python packages ..."
	@command -v $(PYTHON) > /dev/null && test -d .venv || $$(command -v $(PYTHON) || command -v python3) -m venv .venv
	@$(BIN)/pip install --quiet --disable-pip-version-check --require-hashes -r requirements.lock
	@$(BIN)/pip install --quiet --disable-pip-version-check --no-deps --no-build-isolation --editable .
	@touch $@

.made/node: console/package.json console/package-lock.json .made/machine
	@echo "Installing the console's packages ..."
	@cd console && npm ci --silent --no-fund --no-audit
	@touch $@

$(CONSOLE): .made/node $(SOURCES) console/openapi.json
	@echo "Building the console ..."
	@cd console && npm run --silent build > ../.made/console.log 2>&1 || (cat ../.made/console.log; exit 1)
	@touch $@

demo: setup
	@$(BIN)/dravo demo $(DEMO)

demo-fresh:
	@rm -rf var/demo
	@$(MAKE) --no-print-directory demo

# Lint goes beside the tests, which leave the processor idle now and then; what it says comes first, and either can fail.
test: setup .made/test-machine
	@began=$$SECONDS; \
	(nice $(MAKE) --no-print-directory lint > .made/lint.log 2>&1; code=$$?; echo "lint and type checks $$((SECONDS - began)) s" >> .made/lint.log; exit $$code) & \
	$(PYTEST) --junitxml=.made/tests.xml; tested=$$?; ended=$$SECONDS; \
	wait $$!; linted=$$?; cat .made/lint.log; \
	echo "make test: tests $$((ended - began)) s, together $$((SECONDS - began)) s"; \
	[ $$tested -eq 0 ] && [ $$linted -eq 0 ]

# An inner loop: core, protocols, store, and the services that need no started process.
test-quick: .made/python
	@began=$$SECONDS; $(PYTEST) -m "not long" tests/core tests/protocols tests/store tests/services && echo "make test-quick: $$((SECONDS - began)) s"

# Many examples, large numbers, 100 rounds of kills; takes hours.
test-nightly: setup .made/test-machine
	@DRAVO_TESTS=nightly $(PYTEST)

test-order:
	@$(BIN)/python tools/order_tests.py .made/tests.xml

# Two at a time: one half is Python, the other half is the console.
lint: setup
	@$(MAKE) --no-print-directory --output-sync=target -j 2 lint-python lint-console

lint-python:
	@$(BIN)/ruff check src tests tools benchmarks
	@$(BIN)/ruff format --check src tests tools benchmarks
	@$(BIN)/mypy
	@$(BIN)/lint-imports --no-cache --no-logo | grep -v "^$$" | tail -8; exit $${PIPESTATUS[0]}
	@$(BIN)/python tools/make_types.py --check

lint-console:
	@cd console && npm run --silent check && npm run --silent lint

format: setup
	@$(BIN)/ruff check --fix src tests tools benchmarks
	@$(BIN)/ruff format src tests tools benchmarks
	@cd console && npm run --silent format

types: .made/python
	@$(BIN)/python tools/make_types.py

bench: setup .made/test-machine
	@$(BIN)/python -m benchmarks

screenshots: setup .made/test-machine
	@$(BIN)/python tools/take_screenshots.py

clean:
	@rm -rf .venv .made console/node_modules src/dravo/web/console/built
