# `make demo` and `make test` are all that a fresh machine needs.

PYTHON ?= $(shell command -v python3.11 || command -v python3)
PORT ?= 8741
VENV := .venv
BIN := $(VENV)/bin
# Where it is set, every process compiles again what was edited since `make setup`.
export PYTHONDONTWRITEBYTECODE :=

.PHONY: demo test check bench stress setup command-line plan-reference effects screenshots css vendor lock chromium redis wrk clean

demo: $(VENV)/.ready
	$(BIN)/gefa demo --data gefa-demo --port $(PORT)

test: $(VENV)/.ready-dev chromium redis
	$(BIN)/pytest -n 2 --dist loadfile --no-loadscope-reorder

check: $(VENV)/.ready-dev frontend/node_modules
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy
	PATH="$(BIN):$$PATH" lint-imports --no-logo
	cd frontend && npm run --silent check

bench: $(VENV)/.ready-dev chromium wrk
	$(BIN)/python -m bench $(FIGURE)

setup: $(VENV)/.ready-dev

stress: $(VENV)/.ready-dev
	GEFA_KILLS=200 GEFA_HOSTILE=2000 $(BIN)/python -m pytest -p no:xdist tests/work/test_kill.py tests/web/test_hostile_uploads.py

command-line: $(VENV)/.ready-dev
	$(BIN)/python -m scripts.command_line

plan-reference: $(VENV)/.ready-dev
	$(BIN)/python -m scripts.plan_reference

effects: $(VENV)/.ready-dev
	$(BIN)/python -m scripts.effects

screenshots: $(VENV)/.ready-dev chromium
	$(BIN)/python -m scripts.screenshots

$(VENV)/.made:
	$(PYTHON) -c 'import sys; sys.exit(sys.version_info < (3, 11) and "Gefa needs Python 3.11 or newer.")'
	$(PYTHON) -m venv $(VENV)
	touch $@

$(VENV)/.ready: $(VENV)/.made requirements.lock pyproject.toml
	$(call install,requirements.lock)
	touch $@

# The lock for development has all that the other one has, in the same versions.
$(VENV)/.ready-dev: $(VENV)/.made requirements-dev.lock pyproject.toml
	$(call install,requirements-dev.lock)
	touch $(VENV)/.ready $@

# pip compiles on one core what Python can compile on all.
define install
	$(BIN)/pip install --quiet --disable-pip-version-check --no-compile --require-hashes -r $(1)
	$(BIN)/pip install --quiet --disable-pip-version-check --no-deps --no-build-isolation -e .
	-$(BIN)/python -m compileall -qq -j 0 $(VENV)/lib src tests
endef

chromium:
	@scripts/ensure chromium

redis:
	@scripts/ensure redis-server

wrk:
	@scripts/ensure wrk

# The rest is for those who work on Gefa itself.

lock: $(VENV)/.made
	$(BIN)/pip install --quiet uv
	$(BIN)/uv pip compile --quiet --universal --python-version 3.11 --generate-hashes \
		--extra build pyproject.toml -o requirements.lock
	$(BIN)/uv pip compile --quiet --universal --python-version 3.11 --generate-hashes \
		--extra build --extra dev -c requirements.lock pyproject.toml -o requirements-dev.lock

frontend/node_modules: frontend/package-lock.json
	cd frontend && npm install --no-save --silent --no-audit --no-fund
	touch $@

css: frontend/node_modules
	cd frontend && npm run --silent build

vendor: frontend/node_modules
	scripts/vendor

clean:
	rm -rf $(VENV) frontend/node_modules .pytest_cache .mypy_cache .ruff_cache .hypothesis
