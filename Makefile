# Everything a fresh machine needs: `make demo` and `make test`. Both make the environment themselves.
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
READY := $(VENV)/.ready

DEMO := $(VENV)/.demo

.PHONY: demo test quick room mutants constraints windows macos coverage lint damage faults docs site layers screenshots bench clean

demo: $(DEMO)
	$(BIN)/dunechest demo

test: $(READY)
	$(BIN)/python -m pytest -n 4 --dist worksteal

# Lint, types and the fast tests of the core: under a minute. And the tests of one room: make room R=jobs/restore
QUICK ?= tests/bag tests/chest tests/transfer tests/ledger tests/machine
quick: $(READY)
	$(BIN)/ruff check .
	$(BIN)/mypy --platform linux
	$(BIN)/python -m pytest -n 2 --dist worksteal -q -m "not slow and not mounted" $(QUICK)

room: $(READY)
	$(BIN)/python -m pytest -n 2 --dist worksteal -q $(if $(wildcard tests/$(R)),tests/$(R),$(wildcard tests/$(R)*.py))

# Lines of a room changed one by one, and its tests run: make mutants R=jobs/move/reclaim/planning
mutants: $(READY)
	$(BIN)/python scripts/mutants.py $(if $(R),src/dunechest/$(R),--since HEAD~1)

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
	$(BIN)/python scripts/findings_reference.py
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

# The tour needs the package and nothing else; the tests and tools come on top of that. The versions are those in
# constraints.txt, so pip has nothing to decide; compiling is left to all processors, and what is never run is not compiled.
INSTALL := $(BIN)/python -m pip install --quiet --disable-pip-version-check --no-compile --constraint constraints.txt
COMPILE := $(BIN)/python -m compileall -qq -j 0 -x '/(tests?|sympy|networkx|cfnlint|samtranslator|moto|docker|graphql|mypy|pip)/'

$(DEMO): pyproject.toml constraints.txt
	$(PYTHON) -c 'import sys; sys.exit(sys.version_info < (3, 11) and "Python 3.11 or later is needed")'
	$(PYTHON) -m venv $(VENV)
	$(INSTALL) --editable .
	# Where Python is told to keep nothing that it compiled, every process would compile it again.
	-$(COMPILE) src $(VENV)/lib
	touch $@

$(READY): $(DEMO)
	$(INSTALL) --editable '.[dev,servers]'
	-$(COMPILE) $(VENV)/lib
	touch $@

# Newer versions of everything, as pyproject.toml allows them; run the tests with them before they are checked in.
constraints:
	$(PYTHON) scripts/constraints.py

clean:
	rm -rf $(VENV) marram-point site
