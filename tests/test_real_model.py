"""A smoke of the real open-weight model: it loads, answers, and learns. Skips where its file cannot be had."""

from __future__ import annotations

import os
from pathlib import Path

import pytest
import torch

from foldkit.adapters import AdapterSettings, attach
from foldkit.datasets import Example
from foldkit.formats import InputError
from foldkit.models import Base, generate, open_base
from foldkit.models.gguf_saving import save_gguf
from foldkit.templates import Turn
from foldkit.tokens import Encoder, TextSide, open_text_side
from foldkit.training import Stepped, TrainSettings, train_adapter

REAL = Path(os.environ.get("FOLDKIT_REAL_BASE", Path(__file__).parent.parent / "real" / "chat-135m.gguf"))


@pytest.fixture(scope="module")
def real() -> tuple[Base, TextSide]:
    if not REAL.exists():
        pytest.skip(f"{REAL} is not there: `make real` fetches it")
    return open_base(REAL), open_text_side(REAL)


def test_it_answers_right_in_its_own_markup(real: tuple[Base, TextSide]) -> None:
    """A greedy answer that any reader would call right, ended by itself."""
    base, side = real
    encoder = Encoder(side, side.markup("own"))
    prompt = encoder.prompt((Turn("user", "What is the capital of France?"),))
    answer = generate(base.decoder, [prompt], encoder.end_ids, 24)[0]
    assert "Paris" in side.tokenizer.decode(answer)
    assert len(answer) < 24


def test_five_steps_lower_the_loss(real: tuple[Base, TextSide]) -> None:
    """On four rows of the sample world."""
    base, side = real
    encoder = Encoder(side, side.markup("own"))
    talk = (Turn("user", "Wind west, force four."), Turn("assistant", "Low Pell, 0600. Wind W 4.", learned=True))
    encoded = encoder.example(talk)
    examples = [Example(row, encoded.ids, encoded.spans) for row in range(1, 5)]
    adapter = attach(base.decoder, AdapterSettings(rank=4))
    settings = TrainSettings(epochs=5, batch=4, micro_batch=4, learning_rate=2e-3, warm_up=0, validations=1)
    events = list(train_adapter(base.decoder, adapter, examples, examples[:1], settings))
    losses = [event.loss for event in events if isinstance(event, Stepped)]
    assert losses[-1] < 0.6 * losses[0]
    assert base.decoder.embedding.weight.dtype == torch.float32


def test_its_stored_blocks_come_back_byte_for_byte(real: tuple[Base, TextSide], tmp_path: Path) -> None:
    """The whole file of a base opened with its own blocks; one that was expanded is refused."""
    save_gguf(open_base(REAL, weights="stored").decoder, REAL, tmp_path / "back.gguf")
    assert (tmp_path / "back.gguf").read_bytes() == REAL.read_bytes()
    with pytest.raises(InputError, match="stored"):
        save_gguf(open_base(REAL).decoder, REAL, tmp_path / "again.gguf")
