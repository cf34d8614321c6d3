.PHONY: run test check bench soak audit lock

run:    ## start Nice Level: installs what is missing, then database, worker and web server; Ctrl-C stops all
	@./setup.sh run
	@exec .venv/bin/nice-level serve

test: check    ## style, types and all tests; installs what is missing
	.venv/bin/pytest -n 2

check:
	@./setup.sh test
	.venv/bin/ruff check .
	.venv/bin/ruff format --check .
	.venv/bin/mypy

bench:    ## measuring, planning and limiting against other tools, as ratios in one run; takes minutes
	@./setup.sh test
	.venv/bin/python -m bench.measure
	.venv/bin/python -m bench.memory
	.venv/bin/python -m bench.plan
	.venv/bin/python -m bench.limiter
	.venv/bin/python -m bench.render
	.venv/bin/python -m bench.batch
	.venv/bin/python -m bench.board
	.venv/bin/python -m bench.hearing
	.venv/bin/python -m bench.prepare
	.venv/bin/python -m bench.regain
	.venv/bin/python -m bench.arrivals
	.venv/bin/python -m bench.season
	.venv/bin/python -m bench.scale

soak:    ## twenty minutes of work while everything around it fails, and every writer at ten minutes
	@./setup.sh test
	.venv/bin/python -m tests.faults.soak --minutes 20
	NICE_LEVEL_DAY_S=600 NICE_LEVEL_DAY_ARRIVALS=300 NICE_LEVEL_DAY_KILLS=20 .venv/bin/pytest tests/faults/test_day_of_lines.py
	NICE_LEVEL_AT_LENGTH_S=600 .venv/bin/pytest -n 2 tests/core/test_at_length.py

audit:   ## what is pinned against known weaknesses, where the registry tells them
	./audit.sh

lock:    ## pin the newest packages that pyproject.toml allows
	./lock.sh
