"""A step over pairs with each prompt computed once, against the same pairs as two separate passes.

Made-up ids, prompts three times as long as each reply; both ways give the same gradient. Interleaved, the best of
`--repeats`.
The last line is one JSON object.

    python benchmarks/preferences.py real/chat-135m.gguf
"""

from __future__ import annotations

import argparse
import json
import random
import time
from collections.abc import Callable
from pathlib import Path

import torch
from torch.nn.functional import logsigmoid

from foldkit.adapters import AdapterSettings, attach
from foldkit.models import Decoder, Replies, open_base, pack_replies, reply_log_probs

PROMPT, REPLY, N_PAIRS, STRENGTH = 120, 40, 5, 0.1


def pairs(vocab_size: int) -> list[Replies]:
    """Return pairs of made-up ids."""
    rng = random.Random(1)
    return [
        Replies(*(tuple(rng.randrange(vocab_size) for _ in range(n)) for n in (PROMPT, REPLY, REPLY)))
        for _ in range(N_PAIRS)
    ]


def together(decoder: Decoder, rows: list[Replies]) -> torch.Tensor:
    """Return the loss with both replies after one prompt."""
    log_probs, _, _ = reply_log_probs(decoder, pack_replies(rows, range(len(rows))))
    return -logsigmoid(STRENGTH * (log_probs[:, 0] - log_probs[:, 1])).sum()


def apart(decoder: Decoder, rows: list[Replies]) -> torch.Tensor:
    """Return the same loss, the chosen replies in one pass and the rejected ones in another."""
    sides = []
    for side in (1, 2):
        alone = [Replies(one.prompt, one[side], ()) for one in rows]
        sides.append(reply_log_probs(decoder, pack_replies(alone, range(len(rows))))[0][:, 0])
    return -logsigmoid(STRENGTH * (sides[0] - sides[1])).sum()


def main() -> None:
    """Measure and print."""
    parser = argparse.ArgumentParser(description=(__doc__ or "").splitlines()[0])
    parser.add_argument("base", type=Path)
    parser.add_argument("--repeats", type=int, default=5)
    options = parser.parse_args()
    base = open_base(options.base)
    adapter = attach(base.decoder, AdapterSettings())
    for factor in adapter.parameters:
        factor.data.normal_(0, 0.01, generator=torch.Generator().manual_seed(1))
    rows = pairs(base.decoder.spec.vocab_size)
    ways: dict[str, Callable[[Decoder, list[Replies]], torch.Tensor]] = {"together": together, "apart": apart}
    found: dict[str, list[float]] = {name: [] for name in ways}
    gradients: dict[str, torch.Tensor] = {}
    base.decoder.train()
    for repeat in range(options.repeats):
        for name, way in ways.items():
            start = time.perf_counter()
            torch.autograd.backward(way(base.decoder, rows))
            found[name].append(time.perf_counter() - start)
            gradients[name] = torch.cat([f.grad.flatten() for f in adapter.parameters if f.grad is not None])
            for factor in adapter.parameters:
                factor.grad = None
        print(f"{repeat + 1}: " + "; ".join(f"{name} {times[-1]:.2f} s" for name, times in found.items()))
    apart_by = float((gradients["together"] - gradients["apart"]).norm() / gradients["apart"].norm())
    print(f"the gradients are {apart_by:.1e} apart")
    print(json.dumps({"prefix_gain": round(min(found["apart"]) / min(found["together"]), 2)}))


if __name__ == "__main__":
    main()
