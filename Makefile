# Everything a fresh machine needs: `make demo` and `make test`. Both make the environment themselves.
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
READY := $(VENV)/.ready

DEMO := $(VENV)/.demo

.PHONY: demo test windows macos coverage lint damage faults docs site layers screenshots bench clean

demo: $(DEMO)
	$(BIN)/dunechest demo

test: $(READY)
	$(BIN)/python -m pytest -n 4 --dist worksteal

# A real Windows Python under wine, and the tour there; and a Python that looks like one of macOS.
windows: $(READY)
	$(BIN)/python scripts/windows.py set-up
	$(BIN)/python scripts/windows.py tests
	$(BIN)/python -m pytest tests/whole/test_windows_and_back.py
	$(BIN)/python scripts/windows.py story

macos: $(READY)
	$(BIN)/python scripts/macos.py

coverage: $(READY)
	$(BIN)/python -m pytest -n 3 --dist worksteal --cov=dunechest --cov-report=term

lint: $(READY)
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy --platform linux
	$(BIN)/mypy --platform darwin --cache-dir .mypy_cache/darwin
	$(BIN)/mypy --platform win32 --cache-dir .mypy_cache/win32
	$(BIN)/lint-imports --no-cache
	$(BIN)/python scripts/layers.py --check
	$(BIN)/python scripts/changelog.py --check

damage: $(READY)
	$(BIN)/python scripts/damage_sweep.py

faults: $(READY)
	$(BIN)/python scripts/fault_sweep.py

docs: $(READY)
	$(BIN)/python scripts/shipped_kinds.py
	$(BIN)/python scripts/command_reference.py
	$(BIN)/python scripts/python_reference.py
	$(BIN)/python scripts/schemas.py
	$(BIN)/python scripts/json_reference.py
	$(BIN)/python scripts/man_pages.py

site: docs
	$(BIN)/mkdocs build --strict --quiet

layers: $(READY)
	$(BIN)/python scripts/layers.py

screenshots: $(READY)
	$(BIN)/python scripts/screenshots.py

bench: $(READY)
	$(BIN)/python benchmarks/run.py --write
	$(BIN)/python benchmarks/looking.py --write
	$(BIN)/python benchmarks/editions.py --write
	$(BIN)/python benchmarks/turning.py --write
	$(BIN)/python benchmarks/knowing.py --write
	$(BIN)/python benchmarks/scale.py --write

# The tour needs the package and nothing else; the tests and tools come on top of that.
$(DEMO): pyproject.toml
	$(PYTHON) -c 'import sys; sys.exit(sys.version_info < (3, 11) and "Python 3.11 or later is needed")'
	$(PYTHON) -m venv $(VENV)
	# A newer pip decides in half the time what goes together; without a way to get it the one that is here will do.
	-$(BIN)/python -m pip install --quiet --disable-pip-version-check --upgrade pip
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --editable .
	# Where Python is told to keep nothing that it compiled, every process would compile it again.
	$(BIN)/python -m compileall -q -j 0 src
	touch $@

$(READY): $(DEMO)
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --editable '.[dev,servers]'
	touch $@

clean:
	rm -rf $(VENV) marram-point site
