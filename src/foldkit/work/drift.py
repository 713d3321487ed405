"""Whether answers became longer or shorter than the replies they were trained towards: a few are made, and counted."""

from __future__ import annotations

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

    examples = [one for one in parts.dataset.parts["validation"] if one.chosen][:_MOST]
    whole = not parts.sheet.base.sharded or n_processes == 1
    if not parts.sheet.train.paired or not whole or not examples or not run.adapter.exists():
        return []
    parts.adapter.copy_from(read_adapter(run.adapter, parts.base).tensors)
    decoder, prompts = parts.base.decoder.eval(), [one.prompt for one in examples]
    chosen = [len(one.chosen) - 1 for one in examples]  # without the end marker
    room = decoder.spec.max_positions - max(map(len, prompts))
    n_tokens = {}
    for on in (False, True):
        parts.adapter.switch(on=on)
        answers = generate(decoder, prompts, parts.end_ids, min(room, 2 * max(chosen) + 8))
        n_tokens[on] = list(map(len, answers))
    note = length_note(n_tokens[True], n_tokens[False], chosen)
    return [note] if note else []
