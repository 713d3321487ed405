"""Whether answers became longer or shorter than the replies they were trained towards: a few are made, and counted."""

from __future__ import annotations

import itertools

from foldkit.answering.together import together, tokens_at_once
from foldkit.rows.tables import spread_places
from foldkit.runs import RunFolder

from .parts import Parts

# Prompts of validation that are answered: enough for a mean, and a few seconds.
_MOST = 16


def drift_notes(parts: Parts, run: RunFolder, n_processes: int) -> list[str]:
    """Say in words how the answers of the run's adapter drifted in length, nothing where they did not.

    Only for objectives of pairs, which can be met by length alone, and not with a base divided between processes, the
    others of which have ended. The adapter in memory becomes the saved one.
    """
    from foldkit.adapters import read_adapter
    from foldkit.models import generate
    from foldkit.training.pair_notes import length_note

    every = [one for one in parts.dataset.parts["validation"] if one.chosen]
    examples = [every[place] for place in spread_places(len(every), _MOST)]
    whole = not parts.sheet.base.sharded or n_processes == 1
    if not parts.sheet.train.paired or not whole or not examples or not run.adapter.exists():
        return []
    parts.adapter.copy_from(read_adapter(run.adapter, parts.base).tensors)
    decoder, prompts = parts.base.decoder.eval(), [one.prompt for one in examples]
    chosen = [len(one.chosen) - 1 for one in examples]  # without the end marker
    most = min(decoder.spec.max_positions - max(map(len, prompts)), 2 * max(chosen) + 8)
    batches = [*together([len(prompt) + most for prompt in prompts], len(prompts), tokens_at_once(decoder))]
    n_tokens: dict[bool, list[int]] = {False: [0] * len(prompts), True: [0] * len(prompts)}
    for on, places in itertools.product(n_tokens, batches):
        parts.adapter.switch(on=on)
        answers = generate(decoder, [prompts[place] for place in places], parts.end_ids, most)
        for place, answer in zip(places, answers, strict=True):
            n_tokens[on][place] = len(answer)
    note = length_note(n_tokens[True], n_tokens[False], chosen)
    return [note] if note else []
