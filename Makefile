# Everything a person or a machine needs, by one word each. `make` lists the words.
PYTHON ?= python3
BIN := .venv/bin
# Tests wait more than they work, so twice as many at once as there are processors.
WORKERS ?= $(shell echo $$((2 * $$(nproc))))

.PHONY: help setup demo test test-all test-kernel test-kernel-long test-kernel-newer test-kernel-faults attack check bench screenshots install deb uninstall lock clean
help: ## List what can be made
	@grep -E '^[a-z-]+:.*## ' $(MAKEFILE_LIST) | sed -E 's/:.*## /\t/' | expand -t 18

setup: .venv/ready ## Install what is missing: system libraries where allowed, Python packages into .venv
.venv/ready: requirements.lock pyproject.toml tools/setup.sh
	@PYTHON="$(PYTHON)" sh tools/setup.sh

.venv/ready-for-tests: .venv/ready
	@sh tools/setup.sh tests

demo: setup ## Open the window on a simulated laptop; with no display, play the example and save pictures
	@$(BIN)/upright-bolt --data demo-output/data demo

test: .venv/ready-for-tests ## Run the tests
	@$(BIN)/python -m pytest -n $(WORKERS) -m "not long"

test-all: .venv/ready-for-tests ## Run all tests: also packages, installed layouts, real rendering, random kills
	@$(BIN)/python -m pytest -n $(WORKERS)

test-kernel: setup ## Run the program on a real kernel in an emulator: needs root, takes ten minutes
	@sh tools/setup.sh kernel-tests || [ "$$UPRIGHT_BOLT_SKIP_KERNEL" = 1 ]
	@$(BIN)/python tests/kernel/run.py

test-kernel-long: setup ## The same with systemd, runs under load, and fifty power cuts: an hour
	@sh tools/setup.sh kernel-tests
	@$(BIN)/python tests/kernel/run.py --long

test-kernel-newer: setup ## The checks on a real kernel, with the newer one of Debian's backports
	@sh tools/setup.sh kernel-tests
	@$(BIN)/python tests/kernel/run.py --newer

test-kernel-faults: setup ## Plant faults in the program and see whether the checks on a real kernel notice: an hour
	@sh tools/setup.sh kernel-tests
	@$(BIN)/python tests/kernel/faults.py

attack: setup ## Run the long form of the attacks: an hour and more; the short form is part of the tests
	@$(BIN)/python -m pip install --quiet --require-hashes -r attack.lock || echo "(atheris does not install here)"
	@$(BIN)/python -m pytest -n $(WORKERS) tests/attack tests/test_installed.py tests/test_service_rights.py \
		tests/test_hold_storms.py --long --timeout 7200
	@$(BIN)/python tests/attack/coverage_guided.py 20000

check: setup ## Formatting, lint, types, layers
	@$(BIN)/ruff format --check src tests bench
	@$(BIN)/ruff check src tests bench
	@$(BIN)/mypy
	@$(BIN)/mypy --config-file tests/mypy.ini
	@$(BIN)/lint-imports

bench: setup ## Measure speeds, as ratios
	@$(BIN)/python -m bench

screenshots: setup ## Renew docs/screenshots from the demo data
	@rm -rf .screenshots-data
	@$(BIN)/upright-bolt --data .screenshots-data demo --play --pictures docs/screenshots --real-seconds 0
	@rm -rf .screenshots-data
	@$(BIN)/upright-bolt --data .screenshots-data demo --first-steps --pictures docs/screenshots --real-seconds 0
	@rm -rf .screenshots-data

install: ## Install for the whole machine, with the root service (as root; PREFIX and DESTDIR are honoured)
	@PREFIX="$(PREFIX)" DESTDIR="$(DESTDIR)" SYSTEM_PYTHON="$(SYSTEM_PYTHON)" sh tools/install.sh install

deb: ## Build the Debian package into dist/
	@SYSTEM_PYTHON="$(SYSTEM_PYTHON)" sh tools/deb.sh dist

uninstall: ## Take the installation away again
	@PREFIX="$(PREFIX)" DESTDIR="$(DESTDIR)" sh tools/install.sh uninstall

lock: ## Pin all packages anew (needs pip-tools)
	pip-compile --extra dev --strip-extras --allow-unsafe --generate-hashes --no-emit-index-url --no-emit-find-links \
		--no-emit-trusted-host --output-file requirements.lock pyproject.toml
	pip-compile --strip-extras --generate-hashes --no-emit-index-url --no-emit-find-links --no-emit-trusted-host \
		--constraint requirements.lock --output-file runtime.lock pyproject.toml

clean: ## Remove what was made
	rm -rf .venv demo-output .screenshots-data build dist
