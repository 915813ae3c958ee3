# Diachron. `make demo` sets everything up and serves the demo; `make test` runs all tests.

PYTHON ?= python3.11
PORT ?= 8020
BIN := .venv/bin
READY := .venv/.ready

.PHONY: setup demo test test-core test-browser bench fit lint format screenshots clean

setup: $(READY) node_modules/.package-lock.json

# The newest of Python 3.11 or 3.12 that is there; the lock pins every package.
$(READY): requirements.lock pyproject.toml
	@test -d .venv || $$(command -v $(PYTHON) || command -v python3) -m venv .venv
	$(BIN)/pip install --quiet --disable-pip-version-check -r requirements.lock
	$(BIN)/pip install --quiet --disable-pip-version-check --no-deps -e .
	@touch $@

node_modules/.package-lock.json: package.json package-lock.json
	npm ci --silent
	@touch $@

demo: setup
	$(BIN)/python manage.py serve --demo --port $(PORT)

# Browser tests drive Debian's Chromium.
/usr/bin/chromium:
	$$(test $$(id -u) = 0 || echo sudo) sh -c 'apt-get update -q && DEBIAN_FRONTEND=noninteractive apt-get install -q -y --no-install-recommends chromium'

# Real drum loops for the tests of the tracker; without them those tests are skipped.
/usr/share/sonic-pi/samples:
	$$(test $$(id -u) = 0 || echo sudo) sh -c 'apt-get update -q && DEBIAN_FRONTEND=noninteractive apt-get install -q -y --no-install-recommends sonic-pi-samples' || true

test: setup lint /usr/bin/chromium /usr/share/sonic-pi/samples
	$(BIN)/python manage.py test tests

test-core: setup
	$(BIN)/python manage.py test tests.core

test-browser: setup /usr/bin/chromium
	$(BIN)/python manage.py test tests.browser

bench: setup /usr/bin/chromium
	$(BIN)/python -m bench

screenshots: setup /usr/bin/chromium
	$(BIN)/python -m bench.screenshots

# The tracker's constants, from takes made as training/README.md says.
fit: setup
	$(BIN)/python -m training.fit build/fit build/evaluation

lint: setup
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy
	$(BIN)/lint-imports

format: setup
	$(BIN)/ruff format .
	$(BIN)/ruff check --fix .

clean:
	rm -rf .venv node_modules var .mypy_cache .ruff_cache .hypothesis
