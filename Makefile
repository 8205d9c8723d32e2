# All set-up happens here: a fresh machine needs Python 3.11 or newer, its venv module, and make.

PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
STAMP := $(VENV)/.installed

.PHONY: demo test lint clean

demo: $(STAMP)
	$(BIN)/jux demo

test: demo
	$(BIN)/python -m pytest

lint: $(STAMP)
	$(BIN)/ruff check src tests docs benchmarks
	$(BIN)/ruff format --check src tests docs benchmarks
	$(BIN)/mypy
	$(BIN)/lint-imports

$(STAMP): pyproject.toml
	$(PYTHON) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --upgrade pip
	$(BIN)/python -m pip install --quiet --editable '.[dev]'
	touch $@

clean:
	rm -rf $(VENV) build .pytest_cache .mypy_cache .ruff_cache .hypothesis
