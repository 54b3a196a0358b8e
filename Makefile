PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
RUNTIME := tests/nodered/node_modules/.installed
SERVER := $(VENV)/.server
REPORTS := tests/superset/.runtime/.installed

# Where it is set, every start of the program would compile all of its modules anew.
unexport PYTHONDONTWRITEBYTECODE

# The tests make thousands of small databases: where memory has room for them, nobody has to wait for a disk.
MEMORY := $(shell test "$$(df -k --output=avail /dev/shm 2>/dev/null | tail -n 1)" -gt 8000000 2>/dev/null && echo TMPDIR=/dev/shm)

.PHONY: demo test stories whole lint bench mutants hurts attack screenshots clean

demo: $(VENV)/.installed
	$(BIN)/amphora demo

# Three at a time also where there are two processors: much of the time is waiting for servers and programs.
test: $(VENV)/.tested $(RUNTIME) $(SERVER) $(REPORTS)
	$(MEMORY) $(BIN)/python -m pytest -n 3 --dist loadgroup

stories: $(VENV)/.tested
	AMPHORA_STORIES=renew $(BIN)/python -m pytest tests/program/test_stories.py tests/contract/test_small_platforms.py

whole: $(VENV)/.tested $(RUNTIME) $(SERVER) $(REPORTS)
	AMPHORA_TESTS=whole $(MEMORY) $(BIN)/python -m pytest -n 2 --dist loadgroup

lint: $(VENV)/.tested
	$(BIN)/ruff check src tests bench attack sharpness
	$(BIN)/ruff format --check src tests bench attack sharpness
	$(BIN)/mypy
	$(BIN)/lint-imports

bench: $(VENV)/.tested $(RUNTIME)
	$(BIN)/python bench/transport.py
	$(BIN)/python bench/startup.py
	$(BIN)/python bench/nodered.py

mutants: $(VENV)/.tested
	$(BIN)/python -m sharpness.mutants $(or $(SEED),1,2,3) $(or $(COUNT),60) $(SECONDS)

hurts: $(VENV)/.tested
	$(BIN)/python -m sharpness.hurts

attack: $(VENV)/.tested
	$(BIN)/python -m attack

screenshots: $(VENV)/.tested
	bash docs/screenshots.sh

$(VENV)/bin/python:
	$(PYTHON) -m venv $(VENV)

$(VENV)/.installed: $(VENV)/bin/python pyproject.toml constraints.txt
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --no-warn-script-location -c constraints.txt -e .
	$(BIN)/python -m compileall -q src
	touch $@

$(VENV)/.tested: $(VENV)/.installed
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --no-warn-script-location -c constraints.txt -e '.[test]'
	touch $@

$(RUNTIME): tests/nodered/package.json tests/nodered/package-lock.json
	bash tests/nodered/install.sh
	touch $@

$(SERVER): tests/postgres/install.sh
	bash tests/postgres/install.sh
	touch $@

$(REPORTS): tests/superset/requirements.txt tests/superset/install.sh
	PYTHON=$(PYTHON) bash tests/superset/install.sh
	touch $@

clean:
	rm -rf $(VENV) tests/nodered/node_modules tests/superset/.runtime build
