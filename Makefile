# Two commands do everything, their own set-up included: make demo, make test.
PYTHON ?= python3
BIN := .venv/bin

.PHONY: demo docs test test-browser lint format bench pictures verification clean

.venv/ready: pyproject.toml
	@echo "installing Dravik and what it needs into .venv: a minute or two"
	$(PYTHON) -m venv .venv
	$(BIN)/python -m pip install --quiet --upgrade pip
	@{ $(BIN)/python -m pip install -e '.[dev]' || touch .venv/failed; } | grep -E '^(Collecting|Installing)'; test ! -e .venv/failed
	touch .venv/ready

demo: .venv/ready
	@echo "the demo: the Tarn from its file to the fire and back, about 20 s; the first time the kernel is compiled, a minute"
	$(BIN)/dravik demo --out demo

test: .venv/ready
	@echo "the tests, on all cores: about seven minutes on two; a dot for each"
	$(BIN)/python -W error -m unittest_parallel -s tests -t . --level class

test-browser: .venv/ready
	@echo "the live page in a headless Chromium: under a minute"
	$(BIN)/python -m unittest browser_tests.test_page

docs: .venv/ready
	@echo "the documentation: its pages are run, which takes two minutes unless the tests did so before; build/docs/html/index.html"
	$(BIN)/python -m tools.docsite.build

lint: .venv/ready
	$(BIN)/ruff check src tests browser_tests tools benchmarks examples docs
	$(BIN)/ruff format --check src tests browser_tests tools benchmarks examples docs
	$(BIN)/mypy

format: .venv/ready
	$(BIN)/ruff check --fix src tests browser_tests tools benchmarks examples docs
	$(BIN)/ruff format src tests browser_tests tools benchmarks examples docs

bench: .venv/ready
	$(BIN)/python benchmarks/run.py $(WRITE)
	$(BIN)/python benchmarks/conditions.py $(WRITE)
	$(BIN)/python benchmarks/lattice.py
	$(BIN)/python benchmarks/flights.py $(WRITE)
	$(BIN)/python benchmarks/machine_code.py $(WRITE)
	$(BIN)/python benchmarks/missions.py $(WRITE)
	$(BIN)/python benchmarks/sensing.py $(WRITE)
	$(BIN)/python benchmarks/starts.py $(WRITE)
	$(BIN)/python benchmarks/growth.py $(WRITE)
	$(BIN)/python benchmarks/pages.py $(WRITE)
	$(BIN)/python benchmarks/live_page.py
	$(BIN)/python benchmarks/before.py

pictures: .venv/ready
	$(BIN)/python tools/make_pictures.py
	$(BIN)/python tools/draw_imports.py

verification: .venv/ready
	$(BIN)/python tools/write_verification.py
	$(BIN)/python tools/write_figures.py

clean:
	rm -rf .venv build dist demo
	find . -name __pycache__ -prune -exec rm -rf {} +
