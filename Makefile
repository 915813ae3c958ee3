# Diachron. `make demo` sets everything up and serves the demo; `make test` runs all tests.

# Any Python from 3.11 to 3.14.
PYTHON ?= $(shell command -v python3.11 || command -v python3 || echo python3)
PORT ?= 8020
BIN := .venv/bin
# Tests run side by side, one more than there are cores: some wait for a browser or a worker.
PARALLEL ?= 3
# Servers, workers and batches are processes of their own: none of them should have to compile our modules again.
unexport PYTHONDONTWRITEBYTECODE
# Those that record in real time come after them, two at a time: where three browsers share a slow machine, sound is lost.
RUN_TESTS = .venv/bin/python manage.py test --exclude-tag real_time --parallel $(PARALLEL)
RUN_REAL_TIME := .venv/bin/python manage.py test --tag real_time --parallel 2 tests.browser

.PHONY: look-ready setup setup-tests demo test lint-aside test-real-time warm-up test-core test-browser test-scripts bench torture fit wheel licences lint format screenshots clean

# ---- what runs the product

setup: look-ready .venv/.ready node_modules/.ready

# What is missing is told before anything is installed.
look-ready:
	@$(PYTHON) deploy/ready.py

.venv/.ready: requirements.lock pyproject.toml
	@test -d .venv || $(PYTHON) -m venv .venv
	@echo "Installing the Python packages (a minute or two, once) ..."
	@$(BIN)/pip install --quiet --disable-pip-version-check -r requirements.lock
	@$(BIN)/pip install --quiet --disable-pip-version-check --no-deps -e .
	@touch $@

# Styles and fonts. Tools for the scripts come with the tests.
node_modules/.ready: package.json package-lock.json
	@echo "Installing the page's styles, scripts and fonts ..."
	@npm ci --silent --omit=dev
	@touch $@

# OPEN= leaves the browser alone.
OPEN ?= --open

demo:
	@$(PYTHON) deploy/ready.py --port $(PORT)
	@$(MAKE) --no-print-directory setup
	@echo "Starting. The first time four demo performances are played and analysed, half a minute in all."
	@$(BIN)/python manage.py serve --demo $(OPEN) --port $(PORT)

# ---- what tests it

setup-tests: setup .venv/.tests node_modules/.tests

.venv/.tests: requirements-dev.lock .venv/.ready
	$(BIN)/pip install --quiet --disable-pip-version-check -r requirements-dev.lock
	@touch $@

node_modules/.tests: node_modules/.ready
	npm ci --silent
	@touch node_modules/.ready $@

# Browser tests drive Debian's Chromium.
/usr/bin/chromium:
	$$(test $$(id -u) = 0 || echo sudo) sh -c 'apt-get update -q && DEBIAN_FRONTEND=noninteractive apt-get install -q -y --no-install-recommends chromium'

# Real drum loops for the tests of the tracker; without them those tests are skipped.
/usr/share/sonic-pi/samples:
	$$(test $$(id -u) = 0 || echo sudo) sh -c 'apt-get update -q && DEBIAN_FRONTEND=noninteractive apt-get install -q -y --no-install-recommends sonic-pi-samples' || true

test: setup-tests /usr/bin/chromium /usr/share/sonic-pi/samples
	@$(MAKE) --no-print-directory --jobs 2 --output-sync warm-up test-scripts
	$(RUN_TESTS) tests
	@$(MAKE) --no-print-directory --jobs 2 --output-sync test-real-time lint-aside

# Recording leaves half of the machine idle, and is never kept waiting by what runs at the lowest priority.
lint-aside:
	@nice -n 19 $(MAKE) --no-print-directory lint

test-real-time: setup-tests /usr/bin/chromium
	$(RUN_REAL_TIME)

# What is compiled or made for all tests is made once, before several processes want it.
warm-up: setup-tests
	$(BIN)/python -m tests.warm_up demo

# Nothing in the core waits for a browser.
test-core: PARALLEL = 2
test-core: .venv/.warm
	$(RUN_TESTS) tests.core

# Compiled loops stay as they are until the core changes.
.venv/.warm: .venv/.tests node_modules/.tests tests/warm_up.py $(shell find core -name '*.py')
	$(BIN)/python -m tests.warm_up
	@touch $@

test-browser: setup-tests /usr/bin/chromium
	$(RUN_TESTS) tests.browser
	$(RUN_REAL_TIME)

# The page's scripts without a browser: arithmetic that has no canvas.
test-scripts: setup-tests
	npm test --silent

lint: setup-tests
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy
	$(BIN)/lint-imports
	npm run --silent lint

format: setup-tests
	$(BIN)/ruff format .
	$(BIN)/ruff check --fix .
	npm run --silent format

# ---- measuring and fitting

# Odd requests, damaged files, kills: bounded, but not part of the tests.
torture: setup-tests
	$(RUN_TESTS) tests.torture.rounds

bench: setup-tests /usr/bin/chromium
	$(BIN)/python -m bench

screenshots: setup-tests /usr/bin/chromium
	$(BIN)/python -m bench.screenshots

# The tracker's constants, from takes made as training/README.md says.
fit: setup-tests
	$(BIN)/python -m training.fit build/fit build/evaluation

# One file that installs everything, without Node: styles, scripts and fonts are put into it.
wheel: setup
	rm -rf studio/vendor build/lib
	$(BIN)/python -m studio.vendoring
	$(BIN)/pip wheel --quiet --disable-pip-version-check --no-deps --wheel-dir dist .
	rm -rf studio/vendor

# What runs the product, and under which licences it may be used.
licences: setup-tests
	cat docs/licences.head.md > docs/licences.md
	$(BIN)/pip-licenses --format=markdown --with-urls --packages $(shell sed -n 's/==.*//p' requirements.lock) >> docs/licences.md

clean:
	rm -rf .venv node_modules var .mypy_cache .ruff_cache .hypothesis
