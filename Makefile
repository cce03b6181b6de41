# Everything on a fresh machine with just Python and make: "make demo" and "make test".
PYTHON ?= python3
VENV ?= .venv
BIN := $(VENV)/bin
SOURCES := $(shell find src -type f ! -name '*.pyc')

.PHONY: demo test bench attack pictures clean

demo: $(VENV)/installed
	$(BIN)/fundamentum demo

test: $(VENV)/tested
	$(BIN)/ruff check .
	$(BIN)/mypy
	$(BIN)/pytest $(PYTEST_OPTIONS)

# Installed for real, as a user has it, and again whenever a source file changes.
$(VENV)/installed: pyproject.toml README.md $(SOURCES)
	test -x $(BIN)/python || $(PYTHON) -m venv $(VENV)
	$(BIN)/pip install -q .
	touch $@

$(VENV)/tested: $(VENV)/installed
	$(BIN)/pip install -q '.[test]'
	touch $@

bench: $(VENV)/tested
	$(BIN)/python benchmarks/run.py

# Mutated input through every command: make attack ATTACKS=20000 SEED=1
attack: $(VENV)/tested
	$(BIN)/python tools/attack.py $(or $(ATTACKS),1000) $(SEED)

pictures: $(VENV)/tested
	sh tools/retake_pictures.sh

clean:
	rm -rf $(VENV)
