# The two commands of the README are `make demo` and `make test`; everything they need they set up themselves.
PYTHON ?= python3
VENV   := .venv
BIN    := $(VENV)/bin
STAMP  := $(VENV)/.installed

.PHONY: demo test soak try-own test-browser test-deep test-engines contract-spark contract-session contract-others test-engines-deep test-producers lint types docs docs-check bench bench-scale lock clean

$(VENV)/.demo: pyproject.toml constraints.txt
	$(PYTHON) -m venv $(VENV)
	$(BIN)/pip install --quiet --disable-pip-version-check --constraint constraints.txt --editable .
	$(BIN)/python -m compileall -q src
	touch $@

$(STAMP): $(VENV)/.demo
	$(BIN)/pip install --quiet --disable-pip-version-check --constraint constraints.txt --editable '.[dev]'
	touch $@

demo: $(VENV)/.demo       ## the sample workspace in ./quillmere and five steps through it
	$(BIN)/fermata demo quillmere --fresh

test: $(STAMP)            ## every test that needs no server and does not take long; the engine contract has a target of its own
	$(BIN)/pytest -n auto --dist worksteal -m "not postgres and not producers and not spark" --ignore tests/contract --ignore tests/browser

try-own: $(STAMP)         ## ten odd files of one's own: two commands each, then a right report
	FERMATA_DEEP=1 $(BIN)/pytest -v tests/test_proposals.py -k own_file

test-deep: $(STAMP)       ## random tests with new examples (SEED=N repeats them), kills at every step, every ready report on the sample
	seed=$${SEED:-$$(date +%s)}; echo "SEED=$$seed"; FERMATA_DEEP=1 $(BIN)/pytest --hypothesis-seed=$$seed -n auto --dist worksteal -m "not postgres and not producers and not spark" --ignore tests/contract --ignore tests/browser

soak: $(STAMP)            ## half an hour of kills, spoiled files, random command lines and definitions (SEED=N repeats it)
	$(BIN)/python -m tests.soak --seed $${SEED:-$$(date +%s)}

test-engines: $(VENV)/.spark  ## the engine contract, a PostgreSQL server and a Spark session of its own included (needs java)
	$(MAKE) --no-print-directory --jobs 3 --output-sync contract-spark contract-session contract-others

CONTRACT := tests/contract
contract-spark:           # a session for the single operations, beside all others; a session mostly waits
	$(BIN)/pytest -m spark $(CONTRACT) --ignore tests/contract/test_spark_workspace.py

contract-session:
	$(BIN)/pytest -m spark tests/contract/test_spark_workspace.py tests/test_library.py

contract-others:
	$(BIN)/pytest -m "not spark" $(CONTRACT)

test-engines-deep: $(VENV)/.spark  ## every ready report of the sample on Spark, Spark Connect and PostgreSQL, also with times as texts, digit by digit (an hour)
	FERMATA_DEEP=1 $(MAKE) --no-print-directory --jobs 2 --output-sync contract-spark contract-others CONTRACT=tests/contract/test_every_report.py
	FERMATA_DEEP=1 FERMATA_TIMES=text $(BIN)/pytest -m postgres tests/contract/test_every_report.py
	FERMATA_DEEP=1 FERMATA_SPARK=connect $(BIN)/pytest -m spark tests/contract/test_every_report.py

$(VENV)/.spark: $(STAMP)
	$(BIN)/pip install --quiet --disable-pip-version-check --constraint constraints.txt --editable '.[spark]'
	touch $@

test-browser: $(STAMP)    ## HTML pages in headless Chromium (needs Debian's chromium and chromium-driver)
	$(BIN)/pytest tests/browser

test-producers: $(STAMP)  ## logs of real daemons on loopback: database server, print spooler, accounting server, login daemon
	$(BIN)/pytest -m producers tests/producers

lint: $(STAMP)
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .

types: $(STAMP)            ## the package, and the examples as a user's own checker sees them
	$(BIN)/mypy
	$(BIN)/mypy --strict examples/*.py
	$(BIN)/pyright

docs: $(STAMP)            ## the command reference, the catalogue and the schema from the code
	$(BIN)/python docs/generate.py

docs-check: $(STAMP)      ## whether they are what the code says
	$(BIN)/python docs/generate.py --check

bench: $(STAMP)           ## import and query against hand-written peers; writes docs/benchmarks.md
	$(BIN)/python -m benchmarks

bench-scale: $(VENV)/.spark  ## one, ten and a hundred million events, embedded and on Spark; writes the figures of docs/scaling.md (an hour, 12 GB)
	$(BIN)/python -m benchmarks.scale

lock: $(STAMP)            ## exact versions of every extra
	$(BIN)/pip-compile --quiet --strip-extras --extra dev --extra spark --no-annotate --no-header --no-emit-index-url \
	    --no-emit-trusted-host --no-emit-find-links --output-file constraints.new pyproject.toml
	grep '==' constraints.new > constraints.txt && rm constraints.new

clean:
	rm -rf $(VENV) quillmere bench-data
