"""The loop: batches to gradients to steps, yielding an event for each thing that happened."""

from __future__ import annotations

import math
import time
from collections.abc import Iterator, Sequence

import torch

from foldkit.adapters.attaching import Adapter
from foldkit.datasets import Example
from foldkit.formats import FoldKitError, InputError
from foldkit.models.decoder import Decoder
from foldkit.models.likelihood import PaddedBatch

from .batches import batches, micro_batches
from .events import Checked, Finished, Started, Stepped, TrainEvent
from .memory import peak_bytes
from .objective import mean_loss, summed_loss
from .schedule import rate_at
from .settings import TrainSettings


def train_adapter(
    decoder: Decoder,
    adapter: Adapter,
    train: Sequence[Example],
    validation: Sequence[Example],
    settings: TrainSettings,
) -> Iterator[TrainEvent]:
    """Train the adapter in place; a listener that wants the best one copies it at a `Checked` event.

    Raises InputError when there is nothing to train or validate on, and FoldKitError when a loss is not a number.
    """
    for name, examples in (("train", train), ("validation", validation)):
        if not examples:
            raise InputError("[split]", f"rows in {name}", "at least one", "none", "add rows or change the split")
    torch.manual_seed(settings.seed)
    n_steps = max(1, round(settings.epochs * math.ceil(len(train) / settings.batch)))
    optimiser = torch.optim.AdamW(
        adapter.parameters, lr=settings.learning_rate, weight_decay=settings.weight_decay, betas=(0.9, 0.999)
    )
    checks = micro_batches(validation, settings.micro_batch)
    due = check_steps(n_steps, settings.validations)
    n_base = decoder.n_parameters - adapter.n_parameters
    yield Started(n_steps, len(train), len(validation), adapter.n_parameters, n_base)
    began, n_tokens, best, best_step = time.perf_counter(), 0, math.inf, 0
    for step, indices in enumerate(batches(len(train), n_steps, settings.batch, settings.seed), 1):
        chosen = [train[index] for index in indices]
        rate = rate_at(step - 1, n_steps, settings)
        for group in optimiser.param_groups:
            group["lr"] = rate
        started = time.perf_counter()
        loss, accuracy = _gradient(decoder, micro_batches(chosen, settings.micro_batch))
        norm = float(torch.nn.utils.clip_grad_norm_(adapter.parameters, settings.clip))
        if not math.isfinite(loss) or not math.isfinite(norm):
            rows = ", ".join(str(example.row) for example in chosen)
            found = f"loss {loss}, gradient norm {norm}"
            raise FoldKitError(f"step {step}: {found} on rows {rows}; the adapter before it is kept: lower the rate")
        optimiser.step()
        optimiser.zero_grad(set_to_none=True)
        now = time.perf_counter()
        batch_tokens = sum(len(example.ids) for example in chosen)
        n_tokens += batch_tokens
        epoch = min(settings.epochs, step * settings.batch / len(train))
        speed = batch_tokens / (now - started)
        yield Stepped(step, epoch, loss, accuracy, norm, rate, n_tokens, speed, now - began, peak_bytes())
        if step in due:
            check_loss, check_accuracy = mean_loss(decoder, checks)
            improved = check_loss < best
            best, best_step = (check_loss, step) if improved else (best, best_step)
            yield Checked(step, check_loss, check_accuracy, improved, time.perf_counter() - began)
    yield Finished(n_steps, best_step, best, time.perf_counter() - began, peak_bytes())


def check_steps(n_steps: int, validations: int) -> frozenset[int]:
    """Return the steps after which validation is due, evenly spaced, the last step among them."""
    return frozenset(max(1, round(n_steps * index / validations)) for index in range(1, validations + 1))


def _gradient(decoder: Decoder, pieces: Sequence[PaddedBatch]) -> tuple[float, float]:
    """Add up the gradient of the batch's mean loss; return that loss and the token accuracy."""
    decoder.train()
    n_learned = sum(int(piece.learned[:, 1:].sum()) for piece in pieces)
    total, n_right = 0.0, 0
    for piece in pieces:
        loss, _, right = summed_loss(decoder, piece)
        torch.autograd.backward(loss / n_learned)
        total, n_right = total + loss.item(), n_right + right
    decoder.eval()
    return total / n_learned, n_right / n_learned
