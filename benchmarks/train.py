"""A training step against a plain loop at the same micro-batch, and against the products that it cannot do without.

The rows are the demo's, in the base's own markup, a batch of 16, or one micro-batch where that is larger. Ours, the
plain loop and the products, at the rate of `torch.mm` at their shapes, take turns, each in a process of its own, so
that none works in memory that another left behind; medians of their ratios. Peak memory is the kernel's own of these
processes, above the level after imports. The last line is one JSON object: of each figure the worst of all
micro-batches, and by micro-batch those of all.

    python benchmarks/train.py real/chat-135m.gguf
"""

from __future__ import annotations

import argparse
import contextlib
import json
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from operator import truediv
from pathlib import Path

import torch
from torch.nn.utils.rnn import pad_sequence

import foldkit
from foldkit.adapters import AdapterSettings, attach
from foldkit.datasets import Example
from foldkit.demo import copy_demo
from foldkit.models import Base, open_base
from foldkit.models.freeing import memory_kept
from foldkit.models.threads import limit_threads
from foldkit.training import TrainSettings, micro_batches
from foldkit.training.memory import peak_bytes
from foldkit.training.objective import ReplyObjective
from foldkit.training.stepping import Stepper
from plain_loop import PlainLoop

BATCH, RANK = 16, 8


def demo_batch(base_at: Path, size: int) -> list[Example]:
    """Return a batch of the demo's rows for micro-batches of so many, encoded for the base."""
    with tempfile.TemporaryDirectory() as folder:
        sheet = foldkit.read_sheet(copy_demo(Path(folder) / "demo"), [f"base.model='{base_at.resolve()}'"])
        return list(foldkit.build(sheet).parts["train"])[: max(BATCH, size)]


def settings_of(size: int) -> TrainSettings:
    """Return the settings of a training in passes of so many examples."""
    return TrainSettings(batch=max(BATCH, size), micro_batch=size)


def ours(base: Base, examples: list[Example], size: int) -> Callable[[], None]:
    """Return a step of ours: the gradient of a batch."""
    settings = settings_of(size)
    adapter = attach(base.decoder, AdapterSettings(rank=RANK))
    stepper = Stepper(base.decoder, adapter, settings, ReplyObjective(settings))

    def step() -> None:
        stepper.gradient(stepper.passes(examples))
        stepper.drop()

    return step


def plain(base: Base, examples: list[Example], size: int) -> Callable[[], None]:
    """Return a step of the plain loop: the gradient of the same batch, in order of arrival."""
    loop = PlainLoop(base.decoder, RANK)
    n_learned = sum(example.n_learned for example in examples)

    def step() -> None:
        for start in range(0, len(examples), size):
            piece = examples[start : start + size]
            ids, learned = (
                pad_sequence([torch.tensor(getattr(e, name)) for e in piece], True) for name in ("ids", "learned")
            )
            loop.gradient(ids, learned, n_learned)
        for factor in loop.factors:
            factor.grad = None

    return step


def products(base: Base, examples: list[Example], size: int) -> Callable[[], None]:
    """Return the products that the gradient of a batch requires, and nothing else.

    What examples of a pass begin with is required once, the token that nothing is predicted from not at all, and past
    the last layer's attention only what predicts a learned token.
    """
    spec, passes = base.decoder.spec, micro_batches(examples, settings_of(size))
    attention, d_model = spec.n_heads * spec.head_dim, spec.d_model
    before = {(d_model, attention): 1, (d_model, spec.n_kv_heads * spec.head_dim): 2}
    after = {(attention, d_model): 1, (d_model, spec.d_ff): 2, (spec.d_ff, d_model): 1}

    def step() -> None:
        for piece in passes:
            for (d_in, d_out), n in before.items():
                _linear_products(piece.ids.numel(), d_in, d_out, n * spec.n_layers)
            for (d_in, d_out), n in after.items():
                _linear_products(piece.ids.numel(), d_in, d_out, n * (spec.n_layers - 1))
                _linear_products(piece.n_learned, d_in, d_out, n)
            for one in piece.pieces:
                seen = one.n_before + one.n_tokens / 2
                _attention_products(spec.n_heads, one.n_tokens, round(seen), spec.head_dim, spec.n_layers)
            _pair(piece.n_learned, d_model, spec.vocab_size, 1)

    return step


def _pair(n_rows: int, d_in: int, d_out: int, n: int) -> None:
    """Multiply by a frozen map, forward and backward to its input."""
    x, weight, gradient = torch.ones(n_rows, d_in), torch.ones(d_out, d_in), torch.ones(n_rows, d_out)
    for _ in range(n):
        torch.mm(x, weight.T)
        torch.mm(gradient, weight)


def _linear_products(n_rows: int, d_in: int, d_out: int, n: int) -> None:
    _pair(n_rows, d_in, d_out, n)
    x, gradient = torch.ones(n_rows, d_in), torch.ones(n_rows, d_out)
    a, b, low = torch.ones(RANK, d_in), torch.ones(d_out, RANK), torch.ones(n_rows, RANK)
    for _ in range(n):
        torch.mm(x, a.T)
        torch.mm(low, b.T)
        torch.mm(gradient, b)
        torch.mm(gradient.T, low)
        torch.mm(low, a)
        torch.mm(low.T, x)


def _attention_products(n_heads: int, n_queries: int, n_keys: int, head_dim: int, n: int) -> None:
    """Two products forward and four backward for every layer, each query with as many keys as it sees in the middle."""
    x, keys, scores = (
        torch.ones(n_heads, *size) for size in ((n_queries, head_dim), (n_keys, head_dim), (n_queries, n_keys))
    )
    for _ in range(3 * n):
        torch.bmm(x, keys.transpose(1, 2))
        torch.bmm(scores, keys)


STEPS = {"plain loop": plain, "products": products, "ours": ours}


def take_turns(kind: str, base_at: Path, size: int) -> None:
    """Make a step for every line that comes in; print the seconds it took, and the peak memory until then."""
    examples = demo_batch(base_at, size)
    before = peak_bytes()
    step = STEPS[kind](open_base(base_at), examples, size)
    with memory_kept() if kind == "ours" else contextlib.nullcontext():  # as in a training
        for _ in sys.stdin:
            start = time.perf_counter()
            step()
            print(time.perf_counter() - start, peak_bytes() - before, flush=True)


@contextlib.contextmanager
def process_of(kind: str, base_at: Path, size: int) -> Iterator[Callable[[], tuple[float, float]]]:
    """Yield what makes a step in a process of its own, and returns its seconds and the peak memory until then."""
    words = [sys.executable, __file__, str(base_at), "--only", kind, "--micro-batch", str(size)]
    with subprocess.Popen(words, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True) as process:
        given, told = process.stdin, process.stdout
        assert given
        assert told

        def turn() -> tuple[float, float]:
            print(file=given, flush=True)
            line = told.readline()
            if not line:
                raise SystemExit(
                    f"{kind} ended, code {process.wait()}: -9 is memory run out; try a smaller micro-batch"
                )
            seconds, peak = line.split()
            return float(seconds), float(peak)

        yield turn


def figures_of(base_at: Path, size: int, n_tokens: int, repeats: int) -> dict[str, float]:
    """Return the speed of the steps, and its ratios: medians over so many turns, after one that does not count."""
    turns: dict[str, list[tuple[float, float]]] = {kind: [] for kind in STEPS}
    with contextlib.ExitStack() as stack:
        steps = {kind: stack.enter_context(process_of(kind, base_at, size)) for kind in STEPS}
        for repeat in range(repeats + 1):
            for kind, step in steps.items():
                turns[kind].append(step())
            took = "; ".join(f"{kind} {found[-1][0]:.2f} s" for kind, found in turns.items())
            print(f"  {repeat}: {took}", flush=True)
    plain_loop, needed, own = ([seconds for seconds, _ in found[1:]] for found in turns.values())
    plain_peak, _, own_peak = (found[-1][1] for found in turns.values())
    print(f"  peak memory {own_peak / 1e6:,.0f} MB, plain loop {plain_peak / 1e6:,.0f} MB")
    return {
        "tokens_per_second": round(n_tokens / statistics.median(own), 1),
        "times_plain_loop": round(statistics.median(map(truediv, plain_loop, own)), 2),
        "share_of_ceiling": round(statistics.median(map(truediv, needed, own)), 3),
        "ceiling_times_plain_loop": round(statistics.median(map(truediv, plain_loop, needed)), 2),
        "memory_share": round(own_peak / plain_peak, 3),
    }


def main() -> None:
    """Measure and print."""
    parser = argparse.ArgumentParser(description=(__doc__ or "").splitlines()[0])
    parser.add_argument("base", type=Path)
    parser.add_argument("--repeats", type=int, default=5)
    parser.add_argument("--micro-batch", type=int, nargs="+", default=[8, 16, 32])
    parser.add_argument("--only", choices=tuple(STEPS))
    options = parser.parse_args()
    if options.only:
        take_turns(options.only, options.base, *options.micro_batch)
        return
    limit_threads()  # as in the command; the processes are told by their environment
    by_size = {}
    for size in options.micro_batch:
        n_tokens = sum(len(example.ids) for example in demo_batch(options.base, size))
        print(f"micro-batch {size}, {n_tokens} tokens a step:")
        by_size[size] = figures_of(options.base, size, n_tokens, options.repeats)
        print(f"  {by_size[size]}")
    worst = {
        name: (max if name == "memory_share" else min)(figures[name] for figures in by_size.values())
        for name in by_size[options.micro_batch[0]]
    }
    print(json.dumps({**worst, "by_micro_batch": by_size}))


if __name__ == "__main__":
    main()
