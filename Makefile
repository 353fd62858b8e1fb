# Everything a fresh machine needs: `make demo` and `make test`. Both make the environment themselves.
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
READY := $(VENV)/.ready

.PHONY: demo test lint damage faults docs screenshots bench clean

demo: $(READY)
	$(BIN)/dunechest demo

test: $(READY)
	$(BIN)/python -m pytest -n 3 --dist worksteal

lint: $(READY)
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy
	$(BIN)/lint-imports --no-cache

damage: $(READY)
	$(BIN)/python scripts/damage_sweep.py

faults: $(READY)
	$(BIN)/python scripts/fault_sweep.py

docs: $(READY)
	$(BIN)/python scripts/command_reference.py
	$(BIN)/python scripts/python_reference.py

screenshots: $(READY)
	$(BIN)/python scripts/screenshots.py

bench: $(READY)
	$(BIN)/python benchmarks/run.py --write
	$(BIN)/python benchmarks/looking.py --write
	$(BIN)/python benchmarks/editions.py --write

$(READY): pyproject.toml
	$(PYTHON) -c 'import sys; sys.exit(sys.version_info < (3, 11) and "Python 3.11 or later is needed")'
	$(PYTHON) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --upgrade pip
	$(BIN)/python -m pip install --quiet --editable '.[dev]'
	touch $@

clean:
	rm -rf $(VENV) marram-point
