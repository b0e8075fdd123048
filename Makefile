# What there is to do here. `make` alone tells.
PYTHON ?= .venv/bin/python
MADE = .venv/made

help:  ## show this
	@grep -E '^[a-z]+:.*##' $(MAKEFILE_LIST) | sed 's/:.*## /\t/' | expand -t 14

# Made anew whenever what the project needs has changed.
$(MADE): pyproject.toml
	python3 -m venv .venv
	.venv/bin/pip install -q -e '.[dev]'
	@touch $(MADE)

setup: $(MADE)  ## make the environment in .venv, or refresh it

test: $(MADE)  ## run every test on all cores, those that start processes last
	$(PYTHON) -m pytest -n auto

fast: $(MADE)  ## run the tests that start no process, up to the first that fails
	$(PYTHON) -m pytest -n auto -x -m "not process"

fuzz: $(MADE)  ## feed the readers, the editor's server, the command line and the edits mutations for SECONDS (60) each
	CROSSGATE_FUZZ=$(or $(SECONDS),60) $(PYTHON) -m pytest tests/language/test_hostile.py tests/language/test_edits.py tests/commands/test_unbreakable.py tests/formats/readers/test_hostile.py tests/formats/exchange/test_hostile.py tests/formats/test_hostile_tables.py tests/editor/test_hostile.py tests/core/lists/test_bulk.py -k "mutated or any_command_line or any_sequence or long_drawn"

mutants: $(MADE)  ## change lines of the core by one and see whether the tests that come by notice (ROOMS="sets lists", SHARE=10 lines of each)
	$(PYTHON) -m tests.mutants $(ROOMS) --share $(or $(SHARE),10)

lint: $(MADE)  ## check style and format
	$(PYTHON) -m ruff check .
	$(PYTHON) -m ruff format --check .

types: $(MADE)  ## check types, in tests and benchmarks too
	$(PYTHON) -m mypy

golden: $(MADE)  ## write what the commands print anew, to be read before it is committed
	$(PYTHON) -m tests.goldens

docs: $(MADE)  ## write the tables and the guide's outputs in the documentation anew
	$(PYTHON) docs/tables.py
	$(PYTHON) docs/schemas.py
	$(PYTHON) editors/grammar.py
	$(PYTHON) docs/guide.py

demo: $(MADE)  ## run the full example
	$(PYTHON) -m crossgate demo

ci:  ## all that must pass before a change lands: the README's two lines from nothing, lint, format, types
	.ci/run

bench: $(MADE)  ## run every benchmark; takes some minutes
	@for each in benchmarks/[a-z]*.py; do [ $$each = benchmarks/synthetic.py ] || [ $$each = benchmarks/sites.py ] || { echo "== $$each"; $(PYTHON) $$each || exit 1; }; done

screenshots: $(MADE)  ## draw docs/screenshots anew (needs a terminal-shot command, see CONTRIBUTING)
	PATH="$(CURDIR)/.venv/bin:$$PATH" docs/screenshots/draw

.PHONY: mutants golden help setup test fast fuzz lint types docs demo ci bench screenshots
