# demo and test are all that a new machine needs: each makes the virtual environment first.

PYTHON ?= python3
VENV   := .venv
BIN    := $(VENV)/bin
N      ?= 1000000
LARGE  ?= 10000000

.PHONY: demo test test-deep check bench bench-large schema man screenshots clean

demo: $(VENV)/ready                   ## make the made-up railway's estate and run four weeks on it
	$(BIN)/keymallet demo build/gentian-valley-railway

# One worker more than there are cores: many tests wait for servers, locks and terminals.
test: $(VENV)/ready                   ## all tests
	$(BIN)/pytest -n $$(($$(nproc) + 1)) --dist worksteal

test-deep: $(VENV)/ready              ## many more random examples, and the long judges; run it before a release
	$(BIN)/pip install --quiet --constraint constraints.txt --editable '.[mutations]'
	KEYMALLET_TESTS=deep $(BIN)/pytest -n auto
	$(BIN)/python tools/mutations.py

check: test                           ## what has to hold before a change lands
	$(BIN)/ruff format --check src tests bench tools
	$(BIN)/ruff check src tests bench tools
	$(BIN)/mypy

bench: $(VENV)/ready                  ## times and memory on N accounts (default 1,000,000), as ratios
	$(BIN)/pip install --quiet --constraint constraints.txt --editable '.[bench]'
	$(BIN)/python bench/run.py build/bench $(N); told=$$?; \
		$(BIN)/python bench/views.py build/bench $(N); told=$$((told | $$?)); \
		$(BIN)/python bench/logbook.py build/bench $(N); told=$$((told | $$?)); \
		$(BIN)/python bench/reports.py build/bench $(N); told=$$((told | $$?)); \
		$(BIN)/python bench/vetting.py build/bench $(N); told=$$((told | $$?)); \
		$(BIN)/python bench/mending.py build/bench && exit $$told

bench-large: $(VENV)/ready            ## times and memory on LARGE accounts (default 10,000,000), against a tenth of them
	$(BIN)/python bench/large.py build/bench $(LARGE)

schema: $(VENV)/ready                 ## what in docs/ follows from the code: schemas, dictionary, functions
	$(BIN)/python tools/write_parser.py
	$(BIN)/python tools/write_docs.py

man: $(VENV)/ready                    ## the manual pages in man/, which are installed with the program
	$(BIN)/python tools/write_man.py

screenshots: $(VENV)/ready            ## pictures of the commands' output for the docs
	PATH=$(abspath $(BIN)):$$PATH tools/screenshots.sh docs/screenshots

$(VENV)/ready: pyproject.toml constraints.txt
	$(PYTHON) -c 'import sys; sys.exit("Keymallet needs Python 3.11 or newer") if sys.version_info < (3, 11) else None'
	$(PYTHON) -m venv $(VENV)
	$(BIN)/pip install --quiet --constraint constraints.txt --editable '.[dev]'
	touch $@

clean:
	rm -rf $(VENV) build
