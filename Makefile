# What there is to do here. `make` alone tells.
PYTHON ?= .venv/bin/python

help:  ## show this
	@grep -E '^[a-z]+:.*##' $(MAKEFILE_LIST) | sed 's/:.*## /\t/' | expand -t 14

.venv:
	python3 -m venv .venv
	.venv/bin/pip install -q -e '.[dev]'

setup: .venv  ## make the environment in .venv

test: .venv  ## run every test
	$(PYTHON) -m pytest

lint: .venv  ## check style and format
	$(PYTHON) -m ruff check .
	$(PYTHON) -m ruff format --check .

types: .venv  ## check types
	$(PYTHON) -m mypy

demo: .venv  ## run the full example
	$(PYTHON) -m crossgate demo

bench: .venv  ## run every benchmark; takes some minutes
	@for each in benchmarks/[a-z]*.py; do [ $$each = benchmarks/synthetic.py ] || { echo "== $$each"; $(PYTHON) $$each || exit 1; }; done

screenshots: .venv  ## draw docs/screenshots anew (needs a terminal-shot command, see CONTRIBUTING)
	PATH="$(CURDIR)/.venv/bin:$$PATH" docs/screenshots/draw

.PHONY: help setup test lint types demo bench screenshots
