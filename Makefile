# Two targets, which need nothing but Python 3.11 or newer.
PYTHON ?= python3
DEMO_ENV := .venv/demo
TEST_ENV := .venv/test

.PHONY: demo test docs clean

demo: $(DEMO_ENV)/ready
	@$(DEMO_ENV)/bin/facturum demo --out demo-out

test: $(TEST_ENV)/ready
	@$(TEST_ENV)/bin/python -m unittest discover -s tests -t .

docs: $(TEST_ENV)/ready
	@$(TEST_ENV)/bin/python tools/generate.py

$(DEMO_ENV)/ready: pyproject.toml
	@$(PYTHON) -m venv $(DEMO_ENV)
	@$(DEMO_ENV)/bin/python -m pip install --quiet --disable-pip-version-check -e .
	@touch $@

$(TEST_ENV)/ready: pyproject.toml
	@$(PYTHON) -m venv $(TEST_ENV)
	@$(TEST_ENV)/bin/python -m pip install --quiet --disable-pip-version-check -e '.[dev]'
	@touch $@

clean:
	rm -rf .venv demo-out build
