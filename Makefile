# Everything on a fresh machine with just Python and make: "make demo" and "make test".
PYTHON ?= python3
# Two environments: one for development, in which the working copy itself runs, and one with the program as a user has it.
VENV ?= .venv
DEMO ?= .demo
BIN := $(VENV)/bin
# All processors, unless told otherwise: the tests are independent of one another.
PYTEST_OPTIONS ?= -n auto --dist loadscope
SOURCES := $(shell find src -type f ! -name '*.pyc')

.PHONY: demo test style types tests bench attack campaign mutations applications pictures clean

demo: $(DEMO)/installed
	$(DEMO)/bin/fundamentum demo

# In this order; side by side with "make -j3 test".
test: style types tests

style: $(VENV)/tested
	$(BIN)/ruff check .

types: $(VENV)/tested
	$(BIN)/mypy

tests: $(VENV)/tested
	$(BIN)/pytest $(PYTEST_OPTIONS)

# Installed for real, as a user has it, and again whenever a source file changes.
$(DEMO)/installed: pyproject.toml README.md $(SOURCES)
	test -x $(DEMO)/bin/python || $(PYTHON) -m venv $(DEMO)
	$(DEMO)/bin/pip install -q .
	touch $@

$(VENV)/tested: pyproject.toml
	test -x $(BIN)/python || $(PYTHON) -m venv $(VENV)
	$(BIN)/pip install -q -e '.[test]'
	touch $@

bench: $(VENV)/tested
	$(BIN)/python benchmarks/run.py

# Mutated input through every command: make attack ATTACKS=20000 SEED=1
attack: $(VENV)/tested
	$(BIN)/python tools/attack.py $(or $(ATTACKS),1000) $(SEED)

# Random real servers, planned for, carried out, taken back, killed (as root): make campaign FIRST=1 LAST=60
campaign: $(VENV)/tested
	FUNDAMENTUM_REAL=1 CAMPAIGN_FIRST=$(or $(FIRST),1) CAMPAIGN_LAST=$(or $(LAST),60) \
		$(BIN)/pytest -rA -n 0 tests/real/test_campaign.py

# Single lines of the program changed at random: which of them do the quick tests not notice?  make mutations COUNT=60 SEED=1
mutations: $(VENV)/tested
	$(BIN)/python tools/mutate.py $(or $(COUNT),60) $(SEED)

pictures: $(VENV)/tested
	sh tools/retake_pictures.sh

clean:
	rm -rf $(VENV) $(DEMO)

# Real applications of Debian's packages: what is derived of them, held against what they declare, against real PHP, and against
# their own start pages.  Needs root, and takes about half an hour.
applications: $(VENV)/tested
	PYTHONPATH=tools $(BIN)/python tools/measure_derive.py bookworm --everything
	PYTHONPATH=tools $(BIN)/python tools/lint_bounds.py
	PYTHONPATH=tools $(BIN)/python tools/close_the_loop.py 14
