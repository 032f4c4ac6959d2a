# demo and test need nothing but Python 3.11 or newer.
PYTHON ?= python3
DEMO_ENV := .venv/demo
TEST_ENV := .venv/test

.PHONY: demo test quick browser docs site package lowest fuzz kills mutate clean
MINUTES ?= 10
QUICK := test_operations test_treatments test_map test_tables test_bins test_numerics test_declarations test_warnings

demo: $(DEMO_ENV)/ready
	@$(DEMO_ENV)/bin/facturum demo --out demo-out

test: $(TEST_ENV)/ready
	@$(TEST_ENV)/bin/python -m tests

# what most often tells of a mistake, in 20 seconds
quick: $(TEST_ENV)/ready
	@$(TEST_ENV)/bin/python -m tests $(QUICK)

# needs Chromium: apt-get install chromium
browser: $(TEST_ENV)/ready
	@$(TEST_ENV)/bin/python -m pip install --quiet --disable-pip-version-check -e '.[dev,browser]'
	@$(TEST_ENV)/bin/python -W ignore -m unittest -q tests.browser.page

docs: $(TEST_ENV)/ready
	@$(TEST_ENV)/bin/python tools/generate.py

# the documentation as pages, strict: a broken link or a warning fails; they lie in build/site
site: $(TEST_ENV)/ready
	@$(TEST_ENV)/bin/python -m pip install --quiet --disable-pip-version-check -e '.[dev,site]'
	@$(TEST_ENV)/bin/python -m sphinx -q -W --keep-going -b html docs build/site

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

# the wheel in an environment of its own, and the tests of the source distribution in another folder
package: $(TEST_ENV)/ready
	@rm -rf build/package && mkdir -p build/package
	@$(TEST_ENV)/bin/python -m pip install --quiet --disable-pip-version-check build
	@$(TEST_ENV)/bin/python -m build --outdir build/package . > build/package/log.txt 2>&1 || (cat build/package/log.txt; exit 1)
	@$(PYTHON) -m venv build/package/env
	@build/package/env/bin/python -m pip install --quiet --disable-pip-version-check build/package/*.whl
	@cd build/package && env/bin/facturum demo --out demo > /dev/null && env/bin/facturum verify demo/build demo/huts.csv
	@cd build/package && tar -xzf *.tar.gz && cd facturum-*/ && $(CURDIR)/$(TEST_ENV)/bin/python -c "import sys; sys.path.insert(0, 'src'); \
	  import facturum; assert facturum.__file__.startswith('$(CURDIR)/build/package'), facturum.__file__"
	@cd build/package/facturum-*/ && PYTHONPATH=src $(CURDIR)/$(TEST_ENV)/bin/python -W ignore -m tests $(QUICK)

# with the lowest versions that pyproject.toml allows
lowest:
	@rm -rf build/lowest && $(PYTHON) -m venv build/lowest
	@build/lowest/bin/python -m pip install --quiet --disable-pip-version-check -e . $$($(PYTHON) tools/lowest.py) hypothesis polars==1.9.0 openpyxl==3.1.0
	@build/lowest/bin/python -W ignore -m tests $(QUICK) test_containers test_compatibility test_spreadsheets

clean:
	rm -rf .venv demo-out build
