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

fuzz: .venv  ## feed the reader, the command line and the edits mutations for SECONDS (60) each
	CROSSGATE_FUZZ=$(or $(SECONDS),60) $(PYTHON) -m pytest tests/language/test_hostile.py tests/language/test_edits.py tests/commands/test_unbreakable.py -k "mutated or any_command_line or any_sequence"

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

.PHONY: help setup test fuzz lint types demo bench screenshots
