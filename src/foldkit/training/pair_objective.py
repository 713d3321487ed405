"""Chosen against rejected replies: passes with both after one prompt, and the log-probabilities of the reference."""

from __future__ import annotations

import dataclasses
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

import torch
from torch import Tensor

from foldkit.datasets import Example, row_numbers, token_counts
from foldkit.formats import InputError
from foldkit.models.batch import Batch, Replies, pack_replies
from foldkit.models.decoder import Decoder
from foldkit.models.likelihood import reply_log_probs

from .batches import divided
from .objective import Loss, Objective, ReplyObjective
from .preferences import OBJECTIVES, LogProbs
from .settings import TrainSettings
from .team import ALONE, Team

# For each row the log-probabilities (nats) of its chosen, its rejected and its neighbour's chosen reply.
Reference = Mapping[int, tuple[float, float, float]]
_NONE: Reference = {}
# Examples that are held at once to be divided into passes.
_AT_ONCE = 4096


class Neighbours:
    """Of each row its prompt with the reply of the next one, or of the first, read when it is asked for."""

    def __init__(self, examples: Sequence[Example]) -> None:
        self._examples = examples
        self._places = {row: place for place, row in enumerate(row_numbers(examples))}

    def of(self, row: int) -> Replies:
        """Return the prompt of a row with another row's reply."""
        place = self._places[row]
        one, other = self._examples[place], self._examples[(place + 1) % len(self._examples)]
        return Replies(one.prompt, other.chosen or other.rejected, ())


@dataclass
class PairObjective:
    """One of OBJECTIVES over pairs, against the values of a reference by row.

    By `neighbours`, of all examples, the divergence of `unpaired` is estimated.
    """

    settings: TrainSettings
    reference: Reference
    neighbours: Neighbours
    baseline: float = 0.0

    def passes(self, examples: Sequence[Example], n_processes: int = 1) -> list[Batch]:
        """Divide a batch of pairs into passes, the longest first, each where it fits first."""
        pieces, share = divided(examples, self.settings, n_processes), not self.settings.noise
        return [packed_pairs(piece, share=share) for piece in pieces]

    def prepare(self, decoder: Decoder, passes: Sequence[Batch], team: Team) -> None:
        """Estimate, for `unpaired`, the divergence from the reference over the whole batch, without gradient.

        The mean of log pi / ref over replies that belong to other prompts, and 0 at least (Ethayarajh et al. 2024,
        section 4.1).
        """
        if not self.settings.either:
            return
        training, total, count = decoder.training, 0.0, 0.0
        decoder.eval()
        with torch.no_grad():
            for piece, counts in team.share(passes):
                found = _of_others(decoder, self.neighbours, piece.rows)
                expected = torch.tensor([self.reference[row][2] for row in piece.rows])
                total, count = total + counts * float((found - expected).sum()), count + counts * len(found)
        decoder.train(training)
        total, count = team.totals(total, count)
        self.baseline = max(0.0, total / count)

    def n_items(self, passes: Sequence[Batch]) -> int:
        """Return the pairs, or for `unpaired` the replies."""
        if self.settings.either:
            return sum(size > 0 for piece in passes for size in piece.sizes)
        return sum(len(piece.rows) for piece in passes)

    def loss(self, decoder: Decoder, batch: Batch, *, training: bool) -> Loss:
        """Return the summed loss of a pass of pairs; without doubt unless in training."""
        log_probs, counts, n_hit = reply_log_probs(decoder, batch)
        policy = LogProbs(*log_probs.unbind(1), *counts.unbind(1))
        expected = torch.tensor([self.reference[row][:2] for row in batch.rows], dtype=log_probs.dtype)
        reference = LogProbs(*expected.unbind(1), *counts.unbind(1))
        settings = self.settings.pairs if training else dataclasses.replace(self.settings.pairs, doubt=0.0)
        found = OBJECTIVES[self.settings.objective](policy, reference, settings, self.baseline)
        chosen, rejected = (log_probs.detach() / counts.clamp(min=1)).unbind(1)
        n_chosen, n_rejected = (int(n) for n in (counts > 0).sum(0))
        both = (counts > 0).all(1)
        n_both = int(both.sum())
        sums = {
            "margin": (float(found.margins[both].sum()), n_both),
            "ranked": (float((chosen > rejected)[both].sum()), n_both),
            "chosen_log_prob": (float(policy.chosen.detach().sum()), n_chosen),
            "rejected_log_prob": (float(policy.rejected.detach().sum()), n_rejected),
            "chosen_tokens": (float(counts[:, 0].sum()), n_chosen),
            "rejected_tokens": (float(counts[:, 1].sum()), n_rejected),
        }
        return Loss(found.total, int(counts[:, 0].sum()), int(n_hit[:, 0].sum()), found.n_items, sums)


def packed_pairs(examples: Sequence[Example], *, share: bool = True) -> Batch:
    """Put pairs into one row, each prompt once, and what prompts begin with where it is `share`d."""
    pairs = [Replies(example.prompt, example.chosen, example.rejected) for example in examples]
    return pack_replies(pairs, [example.row for example in examples], share=share)


def _of_others(decoder: Decoder, neighbours: Neighbours, rows: Sequence[int]) -> Tensor:
    """Return the log-probabilities of other rows' replies after the prompts of these, (n,)."""
    return reply_log_probs(decoder, pack_replies([neighbours.of(row) for row in rows], rows))[0][:, 0]


@torch.no_grad()
def reference_values(
    decoder: Decoder, examples: Sequence[Example], settings: TrainSettings, known: Reference = _NONE, team: Team = ALONE
) -> Iterator[Reference]:
    """Yield by row what the model as it is now gives the replies, to be the reference of what it becomes.

    A mapping for each pass that this process makes, as many as every other, where need be empty ones. A pass all of
    whose rows are `known` is not made.
    """
    decoder.eval()
    neighbours = Neighbours(examples)
    for passes in _passes_of_all(examples, settings):
        for start in range(0, len(passes), team.size):
            piece = passes[start + team.rank] if start + team.rank < len(passes) else []
            if any(one.row not in known for one in piece):
                yield _values(decoder, piece, neighbours, settings)
            else:
                yield {one.row: known[one.row] for one in piece}


def _passes_of_all(examples: Sequence[Example], settings: TrainSettings) -> Iterator[list[list[Example]]]:
    """Yield the passes of some examples after another, the longest first, so that few are held at once."""
    lengths = token_counts(examples)
    order = sorted(range(len(lengths)), key=lambda place: -lengths[place])
    for start in range(0, len(order), _AT_ONCE):
        some = [examples[place] for place in order[start : start + _AT_ONCE]]
        yield divided(some, settings, max(1, len(some) // settings.n_micro))


def _values(
    decoder: Decoder, piece: Sequence[Example], neighbours: Neighbours, settings: TrainSettings
) -> dict[int, tuple[float, float, float]]:
    own, rows = reply_log_probs(decoder, packed_pairs(piece))[0], [one.row for one in piece]
    others = _of_others(decoder, neighbours, rows) if settings.either else own.new_zeros(len(rows))
    every = zip(rows, own.tolist(), others.tolist(), strict=True)
    return {row: (chosen, rejected, other) for row, (chosen, rejected), other in every}


def objective_for(
    settings: TrainSettings, examples: Sequence[Example], reference: Reference | None = None
) -> Objective:
    """Return the objective of the settings over these examples, of one part; without a reference it is all zeros.

    Raises InputError for a row without a rejected reply or without a value of the reference that it needs.
    """
    if not settings.paired:
        return ReplyObjective(settings)
    values = reference if reference is not None else dict.fromkeys((one.row for one in examples), (0.0, 0.0, 0.0))
    for one in examples:
        if not one.rejected and not settings.either:
            raise InputError(
                "[train]", "objective", "rows with a rejected reply", f"row {one.row} without", "set it aside"
            )
        if one.row not in values:
            raise InputError("reference", f"row {one.row}", "a value of each row", None, "compute the reference anew")
    return PairObjective(settings, values, Neighbours(examples))
