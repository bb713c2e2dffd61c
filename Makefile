# Every target does its own set-up, on a fresh machine too: Python 3.11 or newer with venv, and
# Node 20 or newer with npm, must be there; Chromium and PostgreSQL are installed for the tests if
# they are missing.

PYTHON ?= python3
# Programs that tests start must not compile our own modules anew each time.
export PYTHONDONTWRITEBYTECODE :=
VENV := .venv
BIN := $(VENV)/bin
# Processes of tests, each with whole files: most tests wait for programs that they started, but for
# those in a browser, which keep a core busy.
THREE := -n 3 --dist loadfile
TWO := -n 2 --dist loadfile
PYTHON_READY := $(VENV)/.ready
NODE_READY := console/node_modules/.ready

.DEFAULT_GOAL := help
.PHONY: help demo test thorough check generate fuzz chaos bench console format browser postgres pictures lock clean

help: ## Show this
	@grep -hE '^[a-z]+:.*##' $(MAKEFILE_LIST) | sed -E 's/:[^#]*## /\t/' | expand -t 12

demo: $(PYTHON_READY) console ## Run the tide almanac; ARGS=--exit-when-done ends with the run
	$(BIN)/yarnloom demo $(ARGS)

test: $(PYTHON_READY) console browser postgres ## Run every test; ARGS go to pytest
	$(BIN)/pytest $(THREE) --ignore tests/console $(ARGS)
	$(BIN)/pytest $(TWO) tests/console $(ARGS)
	cd console && npm run --silent test

thorough: ## Every test, with as many kills and random worlds as are promised (half an hour)
	YARNLOOM_THOROUGH=1 $(MAKE) test

check: $(PYTHON_READY) $(NODE_READY) ## Format, lint, strict types, dependency direction, limits
	$(BIN)/ruff format --check
	$(BIN)/ruff check
	$(BIN)/mypy
	$(BIN)/lint-imports
	$(BIN)/python -m tools.ratchet
	$(BIN)/python -m tools.generate --check
	cd console && npm run --silent check

generate: $(PYTHON_READY) ## Make the client without asyncio, and the console's types, anew
	$(BIN)/python -m tools.generate

fuzz: $(PYTHON_READY) ## Send random requests over the whole description; CASES=20000
	$(BIN)/python -m tests.boundaries.fuzzing $(or $(CASES),20000)

chaos: $(PYTHON_READY) ## Kill, freeze, cut off and put back real processes; SECONDS=1200 SEED=7
	$(BIN)/python -m chaos $(or $(SECONDS),60) $(SEED)

bench: $(PYTHON_READY) ## Speed, as ratios against references in the same run
	$(BIN)/python -m bench

console: $(PYTHON_READY) $(NODE_READY) ## Build the console into the package, if it changed
	@$(BIN)/python build_console.py

format: $(PYTHON_READY) $(NODE_READY) ## Put everything into the house's format
	$(BIN)/ruff format
	$(BIN)/ruff check --fix
	cd console && npm run --silent format

browser: ## Install Chromium where it is missing
	@command -v chromium >/dev/null || { \
	  echo "installing Debian's chromium for the console's tests"; \
	  SUDO=$$([ "$$(id -u)" = 0 ] || echo sudo); \
	  $$SUDO apt-get update -qq && $$SUDO apt-get install -y -qq --no-install-recommends chromium >/dev/null; }

postgres: ## Install PostgreSQL where it is missing
	@ls /usr/lib/postgresql/*/bin/postgres >/dev/null 2>&1 || { \
	  echo "installing Debian's postgresql for the tests of the outbox"; \
	  SUDO=$$([ "$$(id -u)" = 0 ] || echo sudo); \
	  $$SUDO apt-get update -qq && $$SUDO apt-get install -y -qq --no-install-recommends postgresql >/dev/null; }

pictures: $(PYTHON_READY) console browser ## Take docs/screenshots anew from the demo; needs tmux
	$(BIN)/python -m tools.pictures

lock: $(PYTHON_READY) ## Renew the locked versions of Python packages
	$(BIN)/uv pip compile -q pyproject.toml --group dev --all-extras --universal \
	  --generate-hashes --upgrade -o requirements.lock

clean: ## Remove everything that was built or installed here
	rm -rf $(VENV) console/node_modules src/yarnloom/_console dist .mypy_cache .ruff_cache .hypothesis

$(PYTHON_READY): pyproject.toml requirements.lock
	test -x $(BIN)/python || $(PYTHON) -m venv $(VENV)
	test -x $(BIN)/uv || $(BIN)/pip install -q uv
	$(BIN)/uv pip sync -q --compile-bytecode --require-hashes requirements.lock --python $(BIN)/python
	$(BIN)/uv pip install -q --no-deps --no-build-isolation -e . --python $(BIN)/python
	touch $@

$(NODE_READY): console/package.json console/package-lock.json
	cd console && npm ci --ignore-scripts --silent --no-audit --no-fund
	touch $@
