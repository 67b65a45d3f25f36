# One command each; every one of them sets up what it needs first.
PY := .venv/bin/python
DROVER := .venv/bin/drover

# What Python compiled is kept, whatever is usual here: each process of the tests would do it again.
export PYTHONDONTWRITEBYTECODE :=

.PHONY: setup demo test lint bench screenshots clean

setup: .venv/.kernels

# A compiled kernel does not notice that one it calls has changed in another file: all go when any source is newer.
.venv/.kernels: .venv/.ready $(shell find src/drover/core -name '*.py')
	@find src -name '*.nb[ic]' -delete
	@echo "compiling the pixel kernels once"
	@$(PY) -m drover.core.kernels
	@touch $@

.venv/.ready: pyproject.toml constraints.txt tools/setup.sh
	@bash tools/setup.sh

demo: setup
	@if [ -n "$$DISPLAY$$WAYLAND_DISPLAY" ]; then $(DROVER) demo; \
	else $(DROVER) demo --headless --out demo-out; fi

lint: .venv/.ready .venv/.typed
	.venv/bin/ruff check src tests tools
	.venv/bin/ruff format --check src tests tools
	.venv/bin/lint-imports

# Types take a minute to look through: once for each state of the sources.
.venv/.typed: .venv/.ready $(shell find src/drover/core -name '*.py')
	NODE_OPTIONS=--max-old-space-size=768 .venv/bin/pyright
	@touch $@

# Kernels are compiled on one core while the other looks the text over.
test:
	@$(MAKE) --no-print-directory -j2 --output-sync=target setup lint
	$(PY) tools/run_tests.py

bench: setup
	$(PY) -m drover.bench

screenshots: setup
	QT_QPA_PLATFORM=offscreen $(PY) tools/screenshots.py docs/screenshots

clean:
	rm -rf .venv demo-out bench-out build src/*.egg-info
