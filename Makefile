# Two commands on a fresh machine: `make demo` and `make test`. Both need Python 3.11 or newer only.
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
SOURCES := pyproject.toml README.md $(shell find src -type f -not -name '*.pyc')

.PHONY: months demo test test-quick lint docs benchmarks agree growth small long accuracy real-programs pairs proofs early day killed week soak bottle bottle-test screenshots clean

$(VENV)/bin/python:
	$(PYTHON) -m venv $(VENV)

$(VENV)/installed: $(VENV)/bin/python $(SOURCES)
	$(BIN)/python -m pip install --quiet --disable-pip-version-check '.[dev]'
	touch $@

# what the program needs to run, and nothing else
$(VENV)/program: $(VENV)/bin/python $(SOURCES)
	$(BIN)/python -m pip install --quiet --disable-pip-version-check .
	touch $@

demo: $(VENV)/program
	$(BIN)/dunmist demo -o demo --force

test: $(VENV)/installed
	$(BIN)/python -m tests

# without what takes longer than two seconds
test-quick: $(VENV)/installed
	$(BIN)/python -m tests --quick

lint: $(VENV)/installed
	$(BIN)/ruff check src tests benchmarks bottle docs
	$(BIN)/ruff format --check src tests benchmarks bottle docs
	$(BIN)/mypy

# what the docs list of the program's own declarations
docs: $(VENV)/installed
	$(BIN)/python docs/make_schema.py
	$(BIN)/python docs/make_views.py
	$(BIN)/python docs/make_thresholds.py
	$(BIN)/python docs/make_sources.py

benchmarks: $(VENV)/installed
	$(BIN)/python benchmarks/measure.py

# three runs of them, ten minutes apart
agree: $(VENV)/installed
	$(BIN)/python benchmarks/agree.py

# how cost grows with the size of a computer; needs the administrator
growth: $(VENV)/installed
	$(BIN)/python benchmarks/growth.py $(KINDS)

# the smallest computer, in the bottle
small: $(VENV)/installed
	$(BIN)/python benchmarks/small.py

# what takes hours
long: $(VENV)/installed
	missed=0; for part in growth.py long.py 'day.py 24 10' killed_day.py 'day.py 168 30'; do \
		$(BIN)/python benchmarks/$$part || missed=1; done; exit $$missed

accuracy: $(VENV)/installed
	$(BIN)/python benchmarks/accuracy.py

# installed programs at known kinds of work; needs the administrator
real-programs: $(VENV)/installed
	status=0; for part in real_programs real_ailments; do \
	  $(BIN)/python benchmarks/$$part.py || status=1; done; exit $$status

pairs: $(VENV)/installed
	$(BIN)/python benchmarks/pairs.py

proofs: $(VENV)/installed
	$(BIN)/python benchmarks/proofs.py

early: $(VENV)/installed
	$(BIN)/python benchmarks/early.py

months: $(VENV)/installed
	$(BIN)/python benchmarks/months.py

day: $(VENV)/installed
	$(BIN)/python benchmarks/day.py 24 10

# a day with twenty kills
killed: $(VENV)/installed
	$(BIN)/python benchmarks/killed_day.py

week: $(VENV)/installed
	$(BIN)/python benchmarks/day.py 168 30

soak: $(VENV)/installed
	$(BIN)/python benchmarks/soak.py

# a real kernel and service manager in an emulated computer; CONTRIBUTING.md says what it takes
bottle: $(VENV)/installed
	$(BIN)/python bottle/look.py

bottle-test: $(VENV)/installed
	$(BIN)/python bottle/test.py

screenshots: $(VENV)/installed
	$(BIN)/python docs/screenshots/make.py

clean:
	rm -rf $(VENV) demo build dist
