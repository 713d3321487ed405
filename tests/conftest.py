"""Shared by all rooms: a tiny base in float64 or on disk, a tiny tokenizer, a small sheet with its rows."""

from __future__ import annotations

import gc
import json
import math
import os
import random
import socket
import subprocess
import sys
from collections.abc import Callable, Sequence
from pathlib import Path

import pytest
import torch
from tokenizers import Tokenizer, decoders, models, pre_tokenizers, trainers

from foldkit.datasets import Example
from foldkit.models import Decoder, ModelSpec, Rope, save_folder
from foldkit.tokens import TextSide, open_text_side

# Seconds to wait for another process: a machine that is shared may stand still for minutes.
PATIENCE = 300
TEXT = "The wind is west, force five, and the glass is falling. Ask: what wind? Say: west. éàø 0123456789 == user =="
CHAT = (
    "{% for m in messages %}<turn>{{ m['role'] }}\n{{ m['content'] }}<end>\n{% endfor %}"
    "{% if add_generation_prompt %}<turn>assistant\n{% endif %}"
)


@pytest.fixture(autouse=True, scope="module")
def look_through_little() -> None:
    """Let what is imported be no garbage: it is much, and would be looked through again at every opening of a base."""
    gc.collect()
    gc.freeze()


@pytest.fixture(scope="session")
def tokenizer_text() -> str:
    """Return a byte-level tokenizer.json with the control tokens <end> and <turn>."""
    tokenizer = Tokenizer(models.BPE())
    tokenizer.pre_tokenizer = pre_tokenizers.ByteLevel(add_prefix_space=False)
    tokenizer.decoder = decoders.ByteLevel()
    alphabet = pre_tokenizers.ByteLevel.alphabet()
    specials = ["<end>", "<turn>"]
    trainer = trainers.BpeTrainer(
        vocab_size=320, special_tokens=specials, initial_alphabet=alphabet, show_progress=False
    )
    tokenizer.train_from_iterator([TEXT] * 3, trainer)
    return str(tokenizer.to_str())


def tiny_spec(vocab_size: int = 320, *, tied_head: bool = True) -> ModelSpec:
    """Return the smallest spec that has all parts: grouped queries, an odd head count, two layers."""
    return ModelSpec(vocab_size, 24, 2, 6, 2, 8, 40, 1e-5, Rope(10000.0, 8), 256, tied_head)


def tiny_decoder(dtype: torch.dtype = torch.float64, *, seed: int = 3, tied_head: bool = True) -> Decoder:
    """Return a frozen decoder with weights large enough that every part matters."""
    torch.manual_seed(seed)
    decoder = Decoder(tiny_spec(tied_head=tied_head)).to(dtype)
    for weight in decoder.parameters():
        weight.data.copy_(torch.randn_like(weight) * (0.3 if weight.dim() == 2 else 1.0))
    decoder.join(dtype)
    return decoder.requires_grad_(requires_grad=False).eval()


def assert_even(shares: torch.Tensor) -> None:
    """Assert that thousands of numbers are even from -1 to 1: they fill it, by mean and mean size to four errors."""
    shares, error = shares.detach(), 1 / math.sqrt(shares.numel())
    assert 1 - 20 * error**2 < float(shares.abs().max()) <= 1 + 1e-9
    assert float(shares.abs().mean()) == pytest.approx(1 / 2, abs=4 * error / math.sqrt(12))
    assert float(shares.mean()) == pytest.approx(0, abs=4 * error / math.sqrt(3))


def in_two_processes(words: Sequence[str], folder: Path) -> list[str]:
    """Run Python with these words in two processes of one team; return what each printed."""
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    told = {"MASTER_ADDR": "127.0.0.1", "MASTER_PORT": str(port), "WORLD_SIZE": "2", "OMP_NUM_THREADS": "1"}
    envs, pipe = [os.environ | told | {"RANK": rank} for rank in ("0", "1")], subprocess.PIPE
    command = [sys.executable, *words]
    running = [subprocess.Popen(command, cwd=folder, env=env, stdout=pipe, stderr=pipe, text=True) for env in envs]
    try:
        outputs = [process.communicate(timeout=PATIENCE) for process in running]
    except subprocess.TimeoutExpired:
        for process in running:
            process.kill()
        pytest.fail(f"they wait for one another: {[process.communicate() for process in running]}")
    assert [process.returncode for process in running] == [0, 0], outputs
    return [stdout for stdout, _ in outputs]


@pytest.fixture
def no_pictures(monkeypatch: pytest.MonkeyPatch) -> None:
    """Draw nothing at the end: it takes as long as so short a training or scoring, and has tests of its own."""
    monkeypatch.setattr("foldkit.curves.save_picture", lambda *_: None)
    monkeypatch.setattr("foldkit.work.scorecard_files.save_scorecard", lambda *_: None)


@pytest.fixture
def decoder() -> Decoder:
    """Return the tiny decoder in float64."""
    return tiny_decoder()


def ten_examples() -> list[Example]:
    """Return ten examples of different lengths, the last few tokens of each learned; five begin alike."""
    rng = random.Random(5)
    made, heading = [], tuple(rng.randrange(320) for _ in range(11))
    for row in range(1, 11):
        begin = heading[: 12 - row // 4] if row % 2 else ()
        n_prompt, n_reply = rng.randint(2, 15), rng.randint(1, 7)
        ids = begin + tuple(rng.randrange(320) for _ in range(n_prompt + n_reply))
        n_prompt += len(begin)
        made.append(Example(row, ids, ((n_prompt, n_prompt + n_reply),)))
    return made


@pytest.fixture
def examples() -> list[Example]:
    """Return ten examples of different lengths, the last few tokens of each learned."""
    return ten_examples()


@pytest.fixture(scope="session")
def base_folder(tmp_path_factory: pytest.TempPathFactory, tokenizer_text: str) -> Path:
    """Return a folder with a tiny base: config, tokenizer, weights."""
    return write_base(tmp_path_factory.mktemp("bases") / "tiny", tokenizer_text)


def write_base(folder: Path, tokenizer_text: str, *, seed: int = 3) -> Path:
    """Write a tiny base into a new folder."""
    folder.mkdir()
    (folder / "tokenizer.json").write_text(tokenizer_text, encoding="utf-8")
    save_folder(tiny_decoder(torch.float32, seed=seed), folder, Tokenizer.from_str(tokenizer_text).token_to_id("<end>"))
    return folder


@pytest.fixture(scope="session")
def side(base_folder: Path) -> TextSide:
    """Return the text side of the tiny base."""
    return open_text_side(base_folder)


@pytest.fixture(scope="session")
def chat_side(tmp_path_factory: pytest.TempPathFactory, tokenizer_text: str) -> TextSide:
    """Return the text side of a tiny base whose files carry chat markup."""
    folder = write_base(tmp_path_factory.mktemp("bases") / "chat", tokenizer_text)
    (folder / "tokenizer_config.json").write_text(json.dumps({"chat_template": CHAT, "eos_token": "<end>"}))
    return open_text_side(folder)


SHEET = """
[rows]
source = "rows.jsonl"
[template]
use = "question"
[split]
validation = 0.2
test = 0.2
seed = 7
[base]
model = "tiny"
[adapter]
rank = 4
[train]
window = 128
epochs = 2
batch = 4
learning_rate = 5e-3
validations = 3
"""


@pytest.fixture
def work_folder(tmp_path: Path, tokenizer_text: str) -> Path:
    """Return a folder with a sheet, forty rows and a tiny base."""
    write_base(tmp_path / "tiny", tokenizer_text)
    words = ("west", "east", "north", "south")
    rows = [{"question": f"wind {i} {words[i % 4]}?", "answer": words[i % 4]} for i in range(40)]
    (tmp_path / "rows.jsonl").write_text("".join(json.dumps(row) + "\n" for row in rows))
    (tmp_path / "fold.toml").write_text(SHEET)
    return tmp_path


@pytest.fixture
def write(tmp_path: Path) -> Callable[[str, str], Path]:
    """Return a function that writes a file of that name and text."""

    def write_file(name: str, text: str) -> Path:
        path = tmp_path / name
        path.write_text(text, encoding="utf-8")
        return path

    return write_file
