# Two commands do everything on a fresh machine: make demo, make test.
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
# Commands that tests start need not be compiled each time anew, whatever the environment says.
export PYTHONDONTWRITEBYTECODE :=

.PHONY: demo test lint docs packages lowest bench fuzz mutants clean

demo: $(VENV)/.installed
	@$(BIN)/usher demo

test: lint
	$(BIN)/pytest

lint: $(VENV)/.installed-dev
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy
	$(BIN)/lint-imports

docs: $(VENV)/.installed-dev  # the site, and the manual page: docs/_build
	$(BIN)/sphinx-build -q -W -n -b html docs docs/_build/html
	$(BIN)/sphinx-build -q -W -b man docs docs/_build/man

packages: $(VENV)/.installed-dev  # two minutes: built, installed in environments of their own, tried
	$(BIN)/python tests/packages.py

lowest: $(VENV)/.installed-dev  # ten minutes: the tests with the lowest release of everything that is promised
	$(BIN)/python tests/lowest.py

fuzz: $(VENV)/.installed-dev  # half an hour
	$(BIN)/python tests/fuzz.py 20000
	USHER_BOUNDS=900000 $(BIN)/pytest -q tests/files/test_bounds.py
	USHER_LAWS=1500 $(BIN)/pytest -q tests/core/engine/test_transparency.py tests/core/engine/test_equal_requests.py tests/core/model/test_branches.py tests/core/questions/test_unnoticed.py tests/core/decisions/test_proofs.py tests/use_cases/test_why_it_differs.py tests/use_cases/test_learn.py tests/core/questions/check
	$(BIN)/python benchmarks/services/score.py
	USHER_NEEDLES=300 $(BIN)/pytest -q tests/core/decisions/test_needles.py

mutants: $(VENV)/.installed-dev  # an hour: which changes of the core the tests notice
	@$(BIN)/pip install --quiet --disable-pip-version-check --editable '.[mutants]'
	$(BIN)/python tests/mutants.py 300

bench: $(VENV)/.installed  # a few minutes
	@for script in benchmarks/*.py; do $(BIN)/python $$script; done

$(BIN)/python:
	@$(PYTHON) -m venv $(VENV)

$(VENV)/.installed: pyproject.toml | $(BIN)/python
	@$(BIN)/pip install --quiet --disable-pip-version-check --editable '.[all]'
	@$(BIN)/python -m compileall -q src
	@touch $@

$(VENV)/.installed-dev: pyproject.toml | $(BIN)/python  # what tests need is compiled as they import it
	@$(BIN)/pip install --quiet --disable-pip-version-check --no-compile --editable '.[dev]'
	@touch $(VENV)/.installed $@

clean:
	rm -rf $(VENV)
