# make demo    sets up and opens the window with Harrow Moss (on a virtual display when there is none)
# make test    sets up and runs the tests
# make thorough  the tests, also on all of the grounds that take long, and of the pages
# make soak    tries damaged files, hostile studies, kills and the like for MINUTES=10 from SEED=1
# make site     builds the pages that F1 opens
# make package builds wheel and source package, and tries them in empty environments
# make bounds  tries the oldest versions that pyproject.toml allows, then the newest
# make setup   only what the two need; leaves .venv/bin/moss-step
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
MINUTES ?= 10
SEED ?= 1
READY := $(VENV)/.ready
SITE := src/moss_step/site/index.html
# Two processes more than cores, as tests wait now and then; one that crashes ends the run with its trace. Threads of
# linear algebra that wait for a core that others have only cost time.
TESTS := QT_QPA_PLATFORM=offscreen OPENBLAS_NUM_THREADS=1 $(BIN)/python -m pytest --numprocesses 4 --dist loadfile --no-loadscope-reorder --max-worker-restart 0

# Without compiled modules beside their sources each start of the program takes twice as long, and each of workers, which
# alone load the library that is loaded below.
unexport PYTHONDONTWRITEBYTECODE

.PHONY: demo test thorough setup bench every-step screenshots lint demo-data soak package bounds site clean

demo: setup $(SITE)
	sh tools/with_display.sh $(BIN)/moss-step demo

test: setup
	$(TESTS)

thorough: setup
	$(TESTS) --thorough

setup: $(READY)

$(READY): pyproject.toml constraints.txt tools/system_packages.sh tools/install.sh
	sh tools/system_packages.sh
	$(PYTHON) -m venv $(VENV)
	sh tools/install.sh $(VENV)
	$(BIN)/python -m compileall -q src
	$(BIN)/python -c "import distributed"
	@echo "Compiling the kernels (once, some minutes) ..."
	QT_QPA_PLATFORM=offscreen $(BIN)/python -m moss_step.desk.warm
	touch $(READY)

bench: setup
	QT_QPA_PLATFORM=offscreen $(BIN)/python -m benchmarks.run

every-step: setup
	QT_QPA_PLATFORM=offscreen $(BIN)/python -m benchmarks.every_step --page docs/every-step.md

soak: setup
	QT_QPA_PLATFORM=offscreen $(BIN)/python -m soak --minutes $(MINUTES) --seed $(SEED) --report docs/reliability.md

screenshots: setup
	QT_QPA_PLATFORM=offscreen $(BIN)/python tools/screenshots.py docs/screenshots

lint: setup
	$(BIN)/ruff check src tests benchmarks soak tools
	$(BIN)/ruff format --check src tests benchmarks soak tools
	$(BIN)/mypy
	$(BIN)/lint-imports

demo-data: setup
	$(BIN)/python -m moss_step.demo.make

site: setup
	$(BIN)/python tools/make_site.py $(dir $(SITE))

$(SITE): $(READY)
	$(BIN)/python tools/make_site.py $(dir $(SITE))

package: site
	rm -rf dist
	$(BIN)/python -m build --outdir dist
	sh tools/try_package.sh dist

bounds: setup
	sh tools/try_bounds.sh lowest-direct
	sh tools/try_bounds.sh highest

clean:
	rm -rf $(VENV) build dist
	find . -name __pycache__ -prune -exec rm -rf {} +
