# demo and test need nothing but Python 3.11 or newer.
PYTHON ?= python3
DEMO_ENV := .venv/demo
TEST_ENV := .venv/test

.PHONY: demo test quick browser docs fuzz kills mutate clean
MINUTES ?= 10

demo: $(DEMO_ENV)/ready
	@$(DEMO_ENV)/bin/facturum demo --out demo-out

test: $(TEST_ENV)/ready
	@$(TEST_ENV)/bin/python -m tests

# what most often tells of a mistake, in 20 seconds
quick: $(TEST_ENV)/ready
	@$(TEST_ENV)/bin/python -m tests test_operations test_treatments test_map test_tables test_trial_errors test_numerics test_declarations

# needs Chromium: apt-get install chromium
browser: $(TEST_ENV)/ready
	@$(TEST_ENV)/bin/python -m pip install --quiet --disable-pip-version-check -e '.[dev,browser]'
	@$(TEST_ENV)/bin/python -W ignore -m unittest -q tests.browser.page

docs: $(TEST_ENV)/ready
	@$(TEST_ENV)/bin/python tools/generate.py

fuzz: $(TEST_ENV)/ready
	@$(TEST_ENV)/bin/python tools/fuzz.py --minutes $(MINUTES)

kills: $(TEST_ENV)/ready
	@$(TEST_ENV)/bin/python -W ignore tools/kills.py

mutate: $(TEST_ENV)/ready
	@$(TEST_ENV)/bin/python -m pip install --quiet --disable-pip-version-check -e '.[dev,mutants]'
	@$(TEST_ENV)/bin/python tools/mutate.py --minutes $(MINUTES) --write

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
