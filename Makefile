# The commands of the project; each sets up what it needs.
PY := .venv/bin/python
DEMO := build/demo

.PHONY: setup demo packages test lint check sanitize soak bench shots layout format clean

setup:
	@sh packaging/setup.sh

demo: setup ## the main job with the demo data; without a display the full example headless
	@$(PY) tools/demo.py $(DEMO)

packages: setup
	@sh packaging/test_packages.sh

# More than there are processors: many tests wait for programs.
WORKERS := $(shell expr $$(nproc) + 4)
test: packages ## the tests and doctests, on all processors
	@QT_QPA_PLATFORM=offscreen $(PY) -m pytest -n $(WORKERS)

lint: setup ## format, lint, types, import contracts
	$(PY) -m ruff format --check src tests bench tools setup.py
	$(PY) -m ruff check src tests bench tools setup.py
	$(PY) -m mypy
	.venv/bin/lint-imports

check: lint test ## all of that

layout: setup ## all that knows the recording file's layout, from its one description
	@$(PY) tools/make_layout.py

format: setup
	$(PY) -m ruff format src tests bench tools setup.py
	$(PY) -m ruff check --fix src tests bench tools setup.py

sanitize: setup ## the recorder's tests with its native part watched for faults of memory
	@sh tools/sanitize.sh

soak: setup ## ten minutes of recording without growth
	@$(PY) bench/soak.py 600

bench: setup ## our figures, as ratios in one run
	@$(PY) bench/run.py

shots: setup ## a picture of each main view, from the demo data
	@$(PY) tools/demo.py $(DEMO) --record-only
	@QT_QPA_PLATFORM=offscreen $(PY) tools/shots.py $(DEMO)/harbour.ricerca docs/screenshots

clean:
	rm -rf build .venv src/*.egg-info src/ricerca/recorder/*.so
