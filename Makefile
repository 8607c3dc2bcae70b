# Each target does all of its own set-up, in a virtual environment inside the clone.
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin

.PHONY: demo test lint bench clean docs constraints

# A marker newer than pyproject.toml says that the environment is complete. The demo needs the program alone.
$(VENV)/.installed: pyproject.toml constraints.txt
	$(PYTHON) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --constraint constraints.txt --editable '.[map]'
	$(BIN)/python -m compileall -q src
	touch $@

$(VENV)/.ready: $(VENV)/.installed
	$(BIN)/python -m pip install --quiet --constraint constraints.txt --editable '.[map,test,lint]'
	touch $@

demo: $(VENV)/.installed
	rm -rf tern-point
	$(BIN)/fixed-anchor demo tern-point

test: $(VENV)/.ready
	$(BIN)/python -m pytest -n 6 --dist worksteal

lint: $(VENV)/.ready
	$(BIN)/ruff check src tests bench
	$(BIN)/ruff format --check src tests bench
	$(BIN)/mypy
	$(BIN)/lint-imports
	$(BIN)/python -m fixed_anchor.engine.source | $(BIN)/shellcheck --shell=sh -
	$(BIN)/shellcheck --shell=sh src/fixed_anchor/engine/*.sh src/fixed_anchor/machines/*.sh src/fixed_anchor/machines/ssh/*.sh
	$(BIN)/shellcheck tests/lab/*.sh .ci/run

# Ratios against floors of the same run; as root. `python -m bench.downtime` takes 25 minutes more.
bench: $(VENV)/.ready
	$(BIN)/python bench/startup.py
	$(BIN)/python bench/check_scale.py
	$(BIN)/python bench/sweep.py
	$(BIN)/python -m bench.verify
	$(BIN)/python -m bench.relay_sweep
	$(BIN)/python -m bench.many_hosts
	$(BIN)/python -m bench.pictures

docs: $(VENV)/.installed
	$(BIN)/python -m fixed_anchor.planfile.shape > docs/plan.schema.json
	$(BIN)/python -m fixed_anchor.reporting.schemas docs/schemas
	$(BIN)/python -m fixed_anchor.reporting.pages docs
	$(BIN)/python -m fixed_anchor.manual > docs/fixed-anchor.1

# The newest releases, in an environment of their own; run the tests before these are committed.
constraints:
	rm -rf .venv-newest
	$(PYTHON) -m venv .venv-newest
	.venv-newest/bin/python -m pip install --quiet --editable '.[map,test,lint]'
	sed -i '/^[^#]/d' constraints.txt
	.venv-newest/bin/python -m pip freeze --exclude-editable >> constraints.txt
	rm -rf .venv-newest

clean:
	rm -rf $(VENV) tern-point
