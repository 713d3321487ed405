"""Train the base that ships, from nothing, on generated prose of Pellam Sound.

    python tools/pretrain_base.py --minutes 2 --out /tmp/pellam

Writes `config.json`, `tokenizer.json`, `model.safetensors` (float16), the log of loss and probes and their figure.
A second call with the same folder goes on where the first one stopped.
"""

from __future__ import annotations

import argparse
import json
import random
import re
import time
from dataclasses import dataclass
from pathlib import Path

import safetensors.torch
import torch
from tokenizers import Tokenizer, decoders, models, pre_tokenizers, trainers
from torch import Tensor
from torch.nn import functional

from draw_pretraining import draw
from foldkit.demo import prose
from foldkit.demo.notes import make_rows
from foldkit.demo.world import BULLETIN_PATTERN
from foldkit.formats.atomic import write_aside
from foldkit.models.decoder import Decoder
from foldkit.models.folder import save_folder
from foldkit.models.rotary import Rope
from foldkit.models.spec import ModelSpec

END = "<end>"
NOTE_WEIGHT = 0.25
PEAK_RATE, FINAL_SHARE, DECAY_FROM = 2.5e-3, 0.04, 0.55
# (from this share of the time on, sequences a step, tokens a sequence)
STAGES = ((0.0, 16, 256), (0.29, 8, 512), (0.65, 4, 1280))
Batch = tuple[Tensor, Tensor, Tensor]


def train_tokenizer(seed: int) -> Tokenizer:
    """Byte-level pairs, digits one by one, on a sample of the prose."""
    rng = random.Random(seed)
    source = prose.documents(rng, 0.5)
    texts = [prose.text_of(next(source)) for _ in range(6000)]
    tokenizer = Tokenizer(models.BPE())
    tokenizer.pre_tokenizer = pre_tokenizers.Sequence(
        [pre_tokenizers.Digits(individual_digits=True), pre_tokenizers.ByteLevel(add_prefix_space=False)]
    )
    tokenizer.decoder = decoders.ByteLevel()
    tokenizer.train_from_iterator(
        texts,
        trainers.BpeTrainer(
            vocab_size=1344,
            special_tokens=[END],
            initial_alphabet=pre_tokenizers.ByteLevel.alphabet(),
            show_progress=False,
        ),
    )
    return tokenizer


class Source:
    """Documents as ids and weights; never a bulletin, never a row of the sample notes."""

    def __init__(self, tokenizer: Tokenizer) -> None:
        self.tokenizer = tokenizer
        self.end_id = tokenizer.token_to_id(END)
        self.kept_out = {row["note"].strip() for row in make_rows() if len(row["note"]) > 20}
        self.bulletin = re.compile(BULLETIN_PATTERN)

    def encode(self, document: prose.Document) -> tuple[list[int], list[float]]:
        """Return ids and weights of one document, its end token included."""
        text = prose.text_of(document)
        if self.bulletin.search(text) or any(note in text for note in self.kept_out):
            raise ValueError(f"the prose holds a bulletin or a sample note: {text!r}")
        ids: list[int] = []
        weights: list[float] = []
        for span in document:
            piece = self.tokenizer.encode(span.text, add_special_tokens=False).ids
            ids += piece
            weights += [1.0 if span.answer else NOTE_WEIGHT] * len(piece)
            if span.ends:
                ids.append(self.end_id)
                weights.append(1.0)
        return [*ids, self.end_id], [*weights, NOTE_WEIGHT]

    def batch(self, rng: random.Random, progress: float, n_sequences: int, length: int) -> Batch:
        """Return inputs, targets and weights, each (n_sequences, length)."""
        stream = prose.documents(rng, progress)
        rows, row_weights = [], []
        for _ in range(n_sequences):
            ids, weights = [self.end_id], [0.0]
            while len(ids) <= length:
                more_ids, more_weights = self.encode(next(stream))
                ids += more_ids
                weights += more_weights
            rows.append(ids[: length + 1])
            row_weights.append(weights[: length + 1])
        table, weight = torch.tensor(rows), torch.tensor(row_weights)
        return table[:, :-1], table[:, 1:], weight[:, 1:]


def weighted_loss(decoder: Decoder, batch: Batch) -> Tensor:
    """Return the mean loss of the batch, every token weighted."""
    inputs, targets, weights = batch
    logits = decoder.logits(decoder(inputs))
    losses = functional.cross_entropy(logits.flatten(0, 1), targets.flatten(), reduction="none")
    return (losses * weights.flatten()).sum() / weights.sum()


@torch.no_grad()
def share_right(decoder: Decoder, source: Source, documents: list[prose.Document]) -> float:
    """Return the share of documents whose last answer is the greedy one, token by token."""
    right = 0
    for document in documents:
        prompt, answer = source.encode(document[:-1])[0][:-1], source.encode(document[-1:])[0][:-1]
        ids = torch.tensor([[source.end_id, *prompt, *answer]])
        logits = decoder.logits(decoder(ids)[:, -len(answer) - 1 : -1])
        right += int(bool((logits.argmax(-1)[0] == torch.tensor(answer)).all()))
    return right / len(documents)


def probe_documents(seed: int = 999, n: int = 40) -> dict[str, list[prose.Document]]:
    """Return the probes: one fact by field, a whole note by field, copying, key to value, cards of one style."""
    rng = random.Random(seed)
    probes: dict[str, list[prose.Document]] = {}
    for field in prose.NOTE_FIELDS:
        probes[f"fact {field}"] = [prose.fact_probe(rng, field) for _ in range(n)]
    for field in ("station", *prose.NOTE_FIELDS):
        probes[f"note {field}"] = [prose.note_probe(rng, field) for _ in range(n)]
    for name, kind in (
        ("copy", "copied string"),
        ("key", "key to value"),
        ("compare", "comparisons"),
        ("pairs", "pairs"),
        ("short forms", "short forms"),
    ):
        probes[name] = [prose.KINDS[kind](rng) for _ in range(n)]
    probes["cards"] = [prose.cards(rng, least=4) for _ in range(n)]
    probes["forms"] = [prose.forms(rng, least=4) for _ in range(n)]
    return probes


@dataclass
class Progress:
    """Where the training stands."""

    step: int = 0
    seconds: float = 0.0


def rate_at(progress: float, step: int) -> float:
    """Warm-up over 100 steps, level, then a straight line down to a small share."""
    fall = max(0.0, (progress - DECAY_FROM) / (1 - DECAY_FROM))
    return PEAK_RATE * min(1.0, (step + 1) / 100) * (1 - (1 - FINAL_SHARE) * min(1.0, fall))


def save_checkpoint(folder: Path, decoder: Decoder, optimiser: torch.optim.AdamW, progress: Progress) -> None:
    """Write weights and both moments as safetensors, aside and renamed."""
    tensors = {f"weight.{name}": value.detach() for name, value in decoder.named_parameters()}
    for name, value in decoder.named_parameters():
        for moment in ("exp_avg", "exp_avg_sq"):
            tensors[f"{moment}.{name}"] = optimiser.state[value][moment]
    header = {"progress": json.dumps({"step": progress.step, "seconds": progress.seconds})}
    write_aside(folder / "checkpoint.safetensors", safetensors.torch.save(tensors, header))


def load_checkpoint(folder: Path, decoder: Decoder, optimiser: torch.optim.AdamW) -> Progress:
    """Put a checkpoint back, if there is one."""
    path = folder / "checkpoint.safetensors"
    if not path.exists():
        return Progress()
    with safetensors.safe_open(path, "pt") as file:
        progress = Progress(**json.loads(file.metadata()["progress"]))
        for name, value in decoder.named_parameters():
            value.data.copy_(file.get_tensor(f"weight.{name}"))
            optimiser.state[value] = {"step": torch.tensor(float(progress.step))} | {
                moment: file.get_tensor(f"{moment}.{name}") for moment in ("exp_avg", "exp_avg_sq")
            }
    return progress


def new_decoder(vocab_size: int, seed: int) -> Decoder:
    """Return a decoder with small random weights."""
    torch.manual_seed(seed)
    spec = ModelSpec(vocab_size, 160, 6, 4, 2, 40, 384, 1e-5, Rope(10000.0, 40), 2048, True)
    decoder = Decoder(spec)
    for name, value in decoder.named_parameters():
        if value.dim() == 2:
            last = name.endswith(("out.weight", "down.weight"))
            torch.nn.init.normal_(value, std=0.04 / (2 * spec.n_layers) ** 0.5 if last else 0.04)
    return decoder


def run(minutes: float, seed: int, out: Path) -> None:
    """Train until the time is used up, probing every minute."""
    out.mkdir(parents=True, exist_ok=True)
    tokenizer_file = out / "tokenizer.json"
    tokenizer = Tokenizer.from_file(str(tokenizer_file)) if tokenizer_file.exists() else train_tokenizer(seed)
    tokenizer.save(str(tokenizer_file))
    source = Source(tokenizer)
    decoder = new_decoder(tokenizer.get_vocab_size(), seed)
    matrices = [value for value in decoder.parameters() if value.dim() == 2]
    vectors = [value for value in decoder.parameters() if value.dim() == 1]
    groups = [{"params": matrices, "weight_decay": 0.05}, {"params": vectors, "weight_decay": 0.0}]
    optimiser = torch.optim.AdamW(groups, lr=PEAK_RATE, betas=(0.9, 0.98))
    progress = load_checkpoint(out, decoder, optimiser)
    probes = probe_documents()
    print(f"{decoder.n_parameters:,} parameters, {tokenizer.get_vocab_size()} tokens, from step {progress.step}")
    last_probe, mean_loss, n_tokens = progress.seconds, 0.0, 0
    while progress.seconds < minutes * 60:
        began = time.perf_counter()
        share = progress.seconds / (minutes * 60)
        _, n_sequences, length = [stage for stage in STAGES if stage[0] <= share][-1]
        batch = source.batch(random.Random(seed * 1_000_003 + progress.step), share, n_sequences, length)
        for group in optimiser.param_groups:
            group["lr"] = rate_at(share, progress.step)
        loss = weighted_loss(decoder, batch)
        loss.backward()
        torch.nn.utils.clip_grad_norm_(decoder.parameters(), 1.0)
        optimiser.step()
        optimiser.zero_grad()
        progress.step += 1
        n_tokens += batch[0].numel()
        mean_loss = loss.item() if mean_loss == 0 else 0.98 * mean_loss + 0.02 * loss.item()
        progress.seconds += time.perf_counter() - began
        done = progress.seconds >= minutes * 60
        if progress.seconds - last_probe >= 60 or done:
            event = {"step": progress.step, "seconds": round(progress.seconds), "loss": round(mean_loss, 4)}
            event["tokens_per_second"] = round(n_tokens / (progress.seconds - last_probe))
            event["probes"] = {name: share_right(decoder, source, docs) for name, docs in probes.items()}
            print(json.dumps(event), flush=True)
            with (out / "pretraining.jsonl").open("a") as log:
                log.write(json.dumps(event) + "\n")
            last_probe, n_tokens = progress.seconds, 0
            save_checkpoint(out, decoder, optimiser, progress)
    save_folder(decoder, out, source.end_id)
    draw(out)


if __name__ == "__main__":
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--minutes", type=float, required=True, help="how long to train, over all calls")
    parser.add_argument("--seed", type=int, default=5)
    parser.add_argument("--out", type=Path, required=True)
    args = parser.parse_args()
    run(args.minutes, args.seed, args.out)
