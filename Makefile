SHELL := /bin/sh
PYTHON ?= python3.11
PORT ?= 5000
VENV := .venv
BIN := $(VENV)/bin
export NUMBA_CACHE_DIR := $(CURDIR)/$(VENV)/numba-cache

.PHONY: install demo test bench vendor clean

install: $(VENV)/.installed

$(VENV)/.installed: pyproject.toml constraints.txt
	test -x $(BIN)/python || $(PYTHON) -m venv $(VENV)
	$(BIN)/pip install --quiet --disable-pip-version-check -c constraints.txt -e .
	$(BIN)/escalera warm
	touch $@

$(VENV)/.tested: $(VENV)/.installed
	$(BIN)/pip install --quiet --disable-pip-version-check -c constraints.txt -e '.[test]'
	touch $@

demo: install
	$(BIN)/escalera demo --port $(PORT)

test: $(VENV)/.tested
	sh tools/find-chromium
	$(BIN)/ruff check .
	$(BIN)/mypy
	$(BIN)/pytest

$(VENV)/.benched: $(VENV)/.installed
	$(BIN)/pip install --quiet --disable-pip-version-check -c constraints.txt -e '.[bench]'
	touch $@

bench: $(VENV)/.benched
	$(BIN)/python -m benchmarks

vendor:
	sh tools/vendor

clean:
	rm -rf $(VENV) var
