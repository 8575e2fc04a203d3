SHELL := /bin/sh
PYTHON ?= python3.11
PORT ?= 5000
VENV := .venv
BIN := $(VENV)/bin
export NUMBA_CACHE_DIR := $(CURDIR)/$(VENV)/numba-cache

.PHONY: install demo test lint lint-python lint-front format texts bench fuzz vendor clean

install: $(VENV)/.warmed

$(VENV)/.installed: pyproject.toml constraints.txt
	test -x $(BIN)/python || $(PYTHON) -m venv $(VENV)
	$(BIN)/pip install --quiet --disable-pip-version-check -c constraints.txt -e .
	touch $@

# kernels and pages compiled once, so that nothing waits for them later
$(VENV)/.warmed: $(VENV)/.installed
	$(BIN)/escalera warm
	touch $@

$(VENV)/.tested: $(VENV)/.installed
	$(BIN)/pip install --quiet --disable-pip-version-check -c constraints.txt -e '.[test]'
	touch $@

demo: install
	$(BIN)/escalera demo --port $(PORT)

# what is compiled and what is read side by side: neither needs the other
test: $(VENV)/.tested
	$(MAKE) -j2 $(VENV)/.warmed lint
	sh tools/find-chromium
	$(BIN)/pytest

$(VENV)/.front: $(VENV)/.tested tools/front/package-lock.json
	sh tools/npm ci --prefix tools/front --loglevel=error
	touch $@

# what can be read without running the program: Python, templates, styles, scripts
lint: lint-python lint-front

lint-python: $(VENV)/.tested
	$(BIN)/ruff check .
	$(BIN)/ruff format --check --quiet .
	$(BIN)/mypy

lint-front: $(VENV)/.front
	$(BIN)/djlint escalera/web/templates --check
	$(BIN)/djlint escalera/web/templates --lint --quiet
	tools/front/node_modules/.bin/biome ci --config-path=tools/front --log-level=error escalera/web/static
	sh tools/node tools/front/node_modules/typescript/bin/tsc -p tools/front
	sh tools/node --test "tests/scripts/*.test.mjs"

format: $(VENV)/.front
	$(BIN)/ruff check --fix-only --quiet .
	$(BIN)/ruff format --quiet .
	-$(BIN)/djlint escalera/web/templates --reformat --quiet
	tools/front/node_modules/.bin/biome check --write --config-path=tools/front --log-level=error escalera/web/static

$(VENV)/.benched: $(VENV)/.warmed
	$(BIN)/pip install --quiet --disable-pip-version-check -c constraints.txt -e '.[bench]'
	touch $@

bench: $(VENV)/.benched
	$(BIN)/python -m benchmarks

# odd requests, commands and files at random, for SECONDS
SECONDS ?= 120
fuzz: $(VENV)/.tested
	$(BIN)/python -m tests.fuzzing --seconds $(SECONDS)

texts: $(VENV)/.tested
	$(BIN)/python tools/list_texts.py

vendor:
	sh tools/vendor

clean:
	rm -rf $(VENV) var
