# make demo   set everything up, make the data, start, print the address
# make test   lint, types, every test, in a browser too
.DEFAULT_GOAL := help
# The system's own interpreter first: distributions build theirs with profiles, version managers by default without, and
# this code takes half as long again on one of those.
OWN_PYTHON := /usr/bin/python3
PYTHON ?= $(shell $(OWN_PYTHON) -c 'import ensurepip, sys; sys.exit(sys.version_info < (3, 11))' 2>/dev/null \
  && echo $(OWN_PYTHON) || echo python3)
BIN := .venv/bin
# The tests start the programs hundreds of times: none is to be compiled anew at each.
unexport PYTHONDONTWRITEBYTECODE
PORT ?= 8080
SET_UP := .set-up
# What sends packets or drives a browser is mostly waiting: these parts run side by side, the longest first, and what only
# computes runs beside them with the rest of the processor.
CHECKS := tests/lab/test_check.py tests/lab/test_real_servers.py tests/test_cli.py
WAYS := $(addprefix tests/lab/test_browser_,reach.py relay.py socket.py)
DESKS := $(filter-out $(WAYS),$(wildcard tests/lab/test_browser*.py))
LINES := $(filter-out $(CHECKS) $(WAYS) $(DESKS),$(wildcard tests/lab/test_*.py))
PROBES := tests/probe tests/test_install.py
ENDS := tests/media
AGENTS := tests/server/test_one_file_probe.py tests/server/test_agent.py
SCREENS := tests/browser/test_main_path.py tests/browser/test_reflow.py tests/charts
STAGES := $(filter-out $(SCREENS),$(wildcard tests/browser/test_[a-n]*.py))
LATER := $(filter-out $(SCREENS),$(wildcard tests/browser/test_[o-z]*.py))
WEEK := tests/demo
IN_TIME := week lines screens checked later stages agents desks ways probes ends
ASKED := $(filter-out $(AGENTS),$(wildcard tests/server/test_[a-h]*.py))
IN_ITS_OWN_TIME := verdicts science asked answered others checks
SLOW := $(CHECKS) $(WAYS) $(DESKS) $(LINES) $(PROBES) $(ENDS) $(AGENTS) $(SCREENS) $(STAGES) $(LATER) $(WEEK)
ASIDE := $(PYTHON) scripts/aside.py
# Browsers wait for what they are to show, however long; packets are due within milliseconds.
PATIENTLY := nice -n 5

.PHONY: mutants told moments standstill wheel help demo test lint types unit browser bench screenshots web api clean setup system
help:
	@sed -n 's/^# \(make .*\)/  \1/p' Makefile
	@echo "  make lint types unit browser bench mutants told moments standstill screenshots web wheel api clean"

demo: setup web
	$(BIN)/tarnfell demo --port $(PORT)

test:
	$(MAKE) -j2 --output-sync installed web
	$(MAKE) -j17 --output-sync $(IN_TIME) $(IN_ITS_OWN_TIME)

.PHONY: installed checks $(IN_TIME) $(IN_ITS_OWN_TIME)
# One after the other: both may have to ask the system's package manager, which works for one at a time.
installed:
	$(MAKE) setup
	$(MAKE) system
	$(BIN)/python scripts/compiled.py
checks: setup
	$(ASIDE) $(MAKE) lint types
# What keeps no time, in parts that are about as long: the last of them would otherwise work alone at the end.
verdicts: setup
	$(ASIDE) $(BIN)/pytest tests/core/verdict
science: setup
	$(ASIDE) $(BIN)/pytest tests/core --ignore tests/core/verdict
asked: setup
	$(ASIDE) $(BIN)/pytest $(ASKED)
answered: setup
	$(ASIDE) $(BIN)/pytest tests/server $(addprefix --ignore ,$(AGENTS) $(ASKED))
others: setup
	$(ASIDE) $(BIN)/pytest $(addprefix --ignore ,$(SLOW) tests/core tests/server)
week: setup
	$(PATIENTLY) $(BIN)/pytest $(WEEK)
lines: setup
	$(BIN)/pytest $(LINES)
probes: setup
	$(BIN)/pytest $(PROBES)
desks: setup
	$(BIN)/pytest $(DESKS)
ways: setup
	$(BIN)/pytest $(WAYS)
checked: setup
	$(BIN)/pytest $(CHECKS)
ends: setup
	$(BIN)/pytest $(ENDS)
agents: setup
	$(BIN)/pytest $(AGENTS)
screens: setup
	$(PATIENTLY) $(BIN)/pytest $(SCREENS)
stages: setup
	$(PATIENTLY) $(BIN)/pytest $(STAGES)
later: setup
	$(PATIENTLY) $(BIN)/pytest $(LATER)

unit: setup
	$(BIN)/pytest --ignore tests/browser --ignore tests/lab

# What functions tell in their tests, written anew (tests/told.py).
told: setup
	rm -rf tests/reference/told
	RENEW_TOLD=1 $(BIN)/python -m pytest -q tests/core tests/exchange tests/report tests/wire tests/work

# Single changes to the code, and whether a test notices: hours. COUNT=… SEED=…
mutants: setup
	$(BIN)/pip install -q --require-hashes -r requirements-mutants.txt
	$(BIN)/python scripts/mutants.py --count $(or $(COUNT),60) --seed $(or $(SEED),1)

# The demo's tests, with weeks that end at other moments than now.
moments: setup
	$(BIN)/python scripts/moments.py --count $(or $(COUNT),24) --seed $(or $(SEED),1)

# The tests of the server and what is below it, while clocks leap ahead as on a machine that stands still. SEED=…
standstill: setup
	$(BIN)/python -m pytest -p tests.standstill tests/server tests/work tests/store tests/clerk tests/report $(addprefix --ignore ,$(AGENTS))

browser: setup system web
	$(BIN)/pytest tests/browser

lint: setup $(SET_UP)/web
	$(BIN)/ruff check . && $(BIN)/ruff format --check .
	cd web && npm run --silent lint

types: setup $(SET_UP)/web api
	$(BIN)/mypy
	cd web && npm run --silent types

bench: setup
	$(BIN)/python -m benchmarks $(PARTS)

screenshots: setup system web
	$(BIN)/python -m tests.browser.screenshots

setup: $(SET_UP)/python

$(SET_UP)/python: requirements-dev.txt pyproject.toml scripts/system-packages.sh
	@mkdir -p $(SET_UP)
	bash scripts/system-packages.sh run
	test -x $(BIN)/python || $(PYTHON) -m venv .venv
# The list is whole, and what is never imported need not be compiled. Its own pip first: the one that comes with older
# interpreters takes three times as long for the rest.
	sed -n '/^pip==/,/[^\\]$$/p' requirements-dev.txt >$(SET_UP)/pip.txt
	$(BIN)/pip install --quiet --no-deps --no-compile --require-hashes -r $(SET_UP)/pip.txt
	$(BIN)/pip install --quiet --no-deps --no-compile --require-hashes -r requirements-dev.txt
	$(BIN)/pip install --quiet --no-deps --no-build-isolation -e .
	@touch $@

$(SET_UP)/web: web/package-lock.json
	@mkdir -p $(SET_UP)
	cd web && npm ci --silent --no-audit --no-fund
	@touch $@

# Debian packages that only the tests need.
system:
	bash scripts/system-packages.sh test

web: $(SET_UP)/web tarnfell/web/index.html

tarnfell/web/index.html: $(shell find web/src web/index.html web/vite.config.ts -type f 2>/dev/null) $(SET_UP)/web
	cd web && npm run --silent build

# The API's description and the front end's types, from the server's models; stale ones fail.
api: setup $(SET_UP)/web
	$(BIN)/python -m tarnfell.server.http.describe web/openapi.json tarnfell/report/report.schema.json
	cd web && npm run --silent api
	@git diff --exit-code -- web/openapi.json web/src/api/schema.d.ts tarnfell/report/report.schema.json || \
	  (echo "The generated API types have changed: commit them."; [ -z "$$CI" ])

# The package with the built front end in it, for other machines: dist/tarnfell-….whl
wheel: setup web
	$(BIN)/pip wheel --quiet --no-deps --no-build-isolation --wheel-dir dist .

clean:
	rm -rf .venv $(SET_UP) web/node_modules tarnfell/web dist demo-data
