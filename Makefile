# Everything runs in a virtual environment of the checkout, made when it is first needed.
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
READY := $(VENV)/.ready

.DEFAULT_GOAL := help
.PHONY: help demo test lint format bench screenshots schema tables clean

help:  ## show this
	@awk -F ':.*## ' '/^[a-z]+:.*## / {printf "  make %-12s %s\n", $$1, $$2}' $(MAKEFILE_LIST)

$(READY): pyproject.toml
	@$(PYTHON) -c 'import sys; sys.exit(sys.version_info < (3, 11))' \
		|| { echo "Kinglet needs Python 3.11 or newer; name one: make PYTHON=python3.11"; exit 1; }
	$(PYTHON) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --disable-pip-version-check -e '.[dev]'
	-$(BIN)/python -m kinglet.kernels.compiling
	@touch $@

demo: $(READY)  ## set up everything and do the whole job on the demo logs
	@$(BIN)/kinglet demo

test: $(READY)  ## run all tests; with FLOOR=95 also say which lines none runs, and fail below so many per cent
	POLARS_MAX_THREADS=1 $(BIN)/unittest-parallel -q -s tests -t . --level class$(if $(FLOOR), \
		--coverage --coverage-source kinglet --coverage-omit '*/kernels/loops/*' --coverage-fail-under $(FLOOR))

lint: $(READY)  ## check style and types
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy
	$(BIN)/lint-imports --no-logo

format: $(READY)  ## put style right
	$(BIN)/ruff check --fix .
	$(BIN)/ruff format .

bench: $(READY)  ## measure against the baselines; writes docs/benchmarks.md
	$(BIN)/python benchmarks/run.py --write

screenshots: $(READY)  ## make docs/screenshots anew (needs xterm, Xvfb, ImageMagick and Chromium)
	$(BIN)/python tools/screenshots.py

schema: $(READY)  ## make the published schema of parser files anew
	$(BIN)/kinglet model --file-schema > src/kinglet/spec/parser-file.schema.json

tables: $(READY)  ## make the tables of the documents anew that come from the code
	$(BIN)/python tools/build_tables.py

clean:  ## remove what can be made again
	rm -rf $(VENV) build dist .mypy_cache .ruff_cache .hypothesis src/*.egg-info kinglet-demo benchmarks/data
