PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
STAMP := $(VENV)/.installed
OLDER := 2026.7.9873
OLDER_ENGINE := $(VENV)/older-engine

# Where byte code is not kept, each of the many starts of the tool in the tests compiles all of it again.
unexport PYTHONDONTWRITEBYTECODE

.PHONY: setup versions demo check test docs sample reference jobs pictures lint types rules unit bench bench-attack bench-monkeys bench-verdicts bench-claims bench-answers bench-driver bench-kills bench-fit lock clean

setup: $(STAMP)

$(STAMP): requirements.lock pyproject.toml
	@$(PYTHON) -c 'import sys; sys.exit("Zinc Kettle needs Python 3.11 or newer, this is " + sys.version.split()[0] + ". Try: make PYTHON=python3.12 setup") if sys.version_info < (3, 11) else None'
	$(PYTHON) -m venv $(VENV) || { echo "Python's venv module is missing. On Debian: apt-get install python3-venv"; exit 1; }
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --require-hashes -r requirements.lock
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --no-deps --editable .
	@touch $(STAMP)

demo: setup
	$(BIN)/zinc-kettle demo

# What a change can be held against in a minute and a half: no processes, no screen.
check: setup lint types rules
	$(BIN)/python -m pytest -n auto tests/core tests/test_rules.py tests/io/test_borders.py

test: setup lint types rules unit

lint: setup
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	@wc -l $$(git ls-files "*.py") | awk '$$1 > 400 && $$2 != "total" {print "warning: " $$2 " has " $$1 " lines: is it still about one thing?"}'

types: setup
	$(BIN)/mypy

rules: setup
	$(BIN)/lint-imports --no-cache
	$(BIN)/python docs/generate.py --check

# The tables of docs/ that are made from what the code declares.
docs: setup
	$(BIN)/python docs/generate.py

# Figures of the finished examples under new definitions.
sample: setup
	$(BIN)/python docs/sample.py

# What scores are against; nothing else should run meanwhile.
reference: setup
	$(BIN)/python docs/reference.py

# The picture of each job of docs/jobs.md.
jobs: setup
	$(BIN)/python docs/job_charts.py

# Every screenshot of docs/, taken of the demo in a real terminal; PICTURES names some of them.
pictures: setup
	PYTHONPATH=. $(BIN)/python docs/pictures.py $(PICTURES)

# A second version of an engine in a Python of its own, which the tests hold against the first.
$(OLDER_ENGINE)/.installed: requirements-older.lock $(STAMP)
	$(BIN)/python -m venv $(OLDER_ENGINE)
	$(OLDER_ENGINE)/bin/python -m pip install --quiet --disable-pip-version-check --require-hashes -r requirements-older.lock
	@touch $@

unit: setup $(OLDER_ENGINE)/.installed
	@command -v tmux >/dev/null || { echo "The tests drive the real screen in tmux, which is missing. On Debian: apt-get install tmux"; exit 1; }
	@{ command -v sshd || test -x /usr/sbin/sshd; } >/dev/null || { echo "The tests measure over a real SSH server, which is missing. On Debian: apt-get install openssh-server iproute2"; exit 1; }
	$(BIN)/python -m pytest -m "not alone" -n 3 --dist loadscope --no-loadscope-reorder
	$(BIN)/python -m pytest -m alone

# The same with other versions of Python, where they are to be had: what a version may change, and the real engine.
VERSIONS := 3.12 3.13
CHANGING := tests/core tests/test_rules.py tests/io/test_store.py tests/io/test_tables.py tests/io/test_report.py \
	tests/io/test_engine.py tests/flows/test_answering.py tests/flows/test_doctor.py

versions:
	@for version in $(VERSIONS); do \
		export PYENV_VERSION=$$version; \
		if ! python$$version -c "" 2>/dev/null; then echo "Python $$version is not to be had here, and was not tried."; continue; fi; \
		python$$version -m venv $(VENV)/python$$version || exit 1; \
		unset PYENV_VERSION; \
		$(VENV)/python$$version/bin/python -m pip install --quiet --disable-pip-version-check --require-hashes -r requirements.lock \
			|| { echo "The packages for Python $$version are not to be had here, and it was not tried."; continue; }; \
		$(VENV)/python$$version/bin/python -m pip install --quiet --disable-pip-version-check --no-deps --editable . || exit 1; \
		$(VENV)/python$$version/bin/python -m pytest -n auto --dist loadscope -k "not few_of_many and not rarely and not seldom" $(CHANGING) || exit 1; \
	done

bench: setup bench-driver
	PYTHONPATH=. $(BIN)/python benchmarks/targets.py

# How often verdicts, lineups and limits are right, some of them through servers, driver and store; PART names one part.
bench-answers: setup
	PYTHONPATH=. $(BIN)/python benchmarks/answers.py $(PART)

bench-driver: setup
	@command -v cc >/dev/null || { echo "The truth server is compiled on the spot, and there is no C compiler. On Debian: apt-get install gcc libc6-dev"; exit 1; }
	PYTHONPATH=. $(BIN)/python benchmarks/driver.py

# What the tool concludes, simulated with its own functions; writes docs/claims.md.
bench-claims: setup
	PYTHONPATH=. $(BIN)/python benchmarks/claims.py
	$(BIN)/python benchmarks/audit.py

# Verdicts under noises that bench-claims does not have; writes docs/verdicts.md.
bench-verdicts: setup
	PYTHONPATH=. $(BIN)/python benchmarks/verdicts.py

bench-kills: setup
	PYTHONPATH=. $(BIN)/python benchmarks/kills.py

# Mutants of everything that is read, by the thousand; writes its table into docs/faults.md. COUNT says how many of each.
COUNT := 10000
bench-attack: setup
	PYTHONPATH=. $(BIN)/python benchmarks/attack.py --count $(COUNT) --write

# A hundred seeds of random keys, typed ahead, beside four busy loops.
bench-monkeys: setup
	for i in 1 2 3 4; do timeout 7200 sh -c 'while :; do :; done' & done; \
		MONKEY_SEEDS=100 $(BIN)/python -m pytest tests/screen/test_monkey.py; status=$$?; kill $$(jobs -p); exit $$status

bench-fit: setup
	$(BIN)/python benchmarks/fit.py memory
	$(BIN)/python benchmarks/fit.py held-out
	$(BIN)/python benchmarks/fit.py speed

lock: setup
	$(BIN)/python -m pip install --quiet uv
	$(BIN)/uv pip compile --quiet --universal --python-version 3.11 --all-extras --generate-hashes --no-header pyproject.toml -o requirements.lock
	echo "xllamacpp==$(OLDER)" | $(BIN)/uv pip compile --quiet --universal --python-version 3.11 --no-deps --generate-hashes --no-header - -o requirements-older.lock

clean:
	rm -rf $(VENV)
