# Everything on a fresh machine with just Python and make: "make demo" and "make test".
PYTHON ?= python3
VENV ?= .venv
BIN := $(VENV)/bin

.PHONY: demo test lint bench pictures clean

demo: $(VENV)/installed
	$(BIN)/fundamentum demo

test: $(VENV)/tested
	$(BIN)/ruff check .
	$(BIN)/mypy
	$(BIN)/pytest

$(VENV)/installed: pyproject.toml
	$(PYTHON) -m venv $(VENV)
	$(BIN)/pip install -q -e .
	touch $@

$(VENV)/tested: $(VENV)/installed
	$(BIN)/pip install -q -e '.[test]'
	touch $@

bench: $(VENV)/tested
	$(BIN)/python benchmarks/run.py

pictures: $(VENV)/tested
	sh tools/retake_pictures.sh

clean:
	rm -rf $(VENV)
