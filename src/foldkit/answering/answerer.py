"""From rows or questions to answers, in one template and markup, with the adapter on or off."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Generator, Mapping, Sequence
from dataclasses import dataclass

from foldkit.adapters.attaching import Adapter
from foldkit.adapters.file import AdapterHeader
from foldkit.formats import InputError
from foldkit.models.decoder import Decoder
from foldkit.models.generating import Reading, generate_after, stream
from foldkit.templates import Markup, Template, Turn, template_from_mapping
from foldkit.tokens import Encoder, TextSide

from .history import History
from .settings import AnswerSettings
from .shots import NearestShots, Shots
from .streamed import Streamed
from .together import together, tokens_at_once

NO_SHOTS = Shots()
Before = Shots | NearestShots | History


@dataclass(frozen=True)
class Answered:
    """An answer, how many tokens it has, and whether it ended by itself."""

    text: str
    n_tokens: int
    ended: bool


class Answerer:
    """Asks one decoder in one template and markup."""

    def __init__(
        self, decoder: Decoder, side: TextSide, template: Template, markup: Markup, adapter: Adapter | None = None
    ) -> None:
        self.decoder, self.template, self.adapter = decoder, template, adapter
        self.encoder = Encoder(side, markup)

    @classmethod
    def of_adapter(cls, decoder: Decoder, side: TextSide, adapter: Adapter, header: AdapterHeader) -> Answerer:
        """Return an answerer that uses the template and the markup that the adapter was trained with."""
        template = template_from_mapping(header.template, "adapter file, template")
        return cls(decoder, side, template, Markup.from_mapping(header.markup, "adapter file, markup"), adapter)

    def prompt_ids(self, row: Mapping[str, str], before: Before = NO_SHOTS, where: str = "question") -> tuple[int, ...]:
        """Return the ids of the prompt. Raises InputError, with `where`, for slots that are blank or missing."""
        return self.encoder.prompt(self._prompt_turns(row, before, where))

    def check(self, row: Mapping[str, str], settings: AnswerSettings, where: str) -> None:
        """Raise InputError, with `where`, for a row that cannot be asked: a blank slot, or no room for its answer."""
        self._check_room([self.prompt_ids(row, where=where)], settings.max_tokens, where)

    def _prompt_turns(self, row: Mapping[str, str], before: Before, where: str) -> tuple[Turn, ...]:
        filled = {slot: row.get(slot, "") for slot in self.template.slots()}
        needed = set(self.template.needed_slots(filled)).intersection(self.template.prompt_slots())
        if blank := [slot for slot in filled if slot in needed and not filled[slot].strip()]:
            raise InputError(where, ", ".join(blank), "a text", None, "give slot=text, or a default in the template")
        try:
            return before.prompt_turns(self.template, filled)
        except ValueError as error:
            raise InputError(where, "conversation", "messages with role and content", None, str(error)) from None

    def with_reply(
        self, row: Mapping[str, str], reply: str, shots: Before = NO_SHOTS
    ) -> tuple[tuple[int, ...], list[bool]]:
        """Return the ids of prompt and a reply, and for each id whether it is the reply's.

        Its end marker is included, but for one that goes on elsewhere.
        """
        target = Turn("assistant", reply, learned=True, open=self.template.goes_on(row))
        encoded = self.encoder.example((*shots.prompt_turns(self.template, row), target))
        return encoded.ids, [index >= encoded.n_prompt for index in range(len(encoded.ids))]

    def answers(
        self,
        rows: Sequence[Mapping[str, str]],
        settings: AnswerSettings,
        *,
        adapted: bool = True,
        before: Before = NO_SHOTS,
        batch: int = 16,
        first: int = 0,
        progress: Callable[[int], None] | None = None,
    ) -> list[str]:
        """Return the answer to each row, those of like prompt length asked together; `progress` hears of each batch.

        What a row draws depends on its place among the rows, counted from `first`, not on its batch; ask a row several
        times for several answers. Shots or a history stand `before` each question.
        """
        prompts = [self.prompt_ids(row, before) for row in rows]
        texts = [""] * len(rows)
        with self.switched(adapted):
            lengths = [len(prompt) + settings.max_tokens for prompt in prompts]
            for chosen in together(lengths, batch, tokens_at_once(self.decoder)):
                places = [first + index for index in chosen]
                found = self.answered([prompts[index] for index in chosen], settings, places)
                for index, answer in zip(chosen, found, strict=True):
                    texts[index] = answer.text
                if progress:
                    progress(len(chosen))
        return texts

    def answered(
        self, prompts: Sequence[tuple[int, ...]], settings: AnswerSettings, places: Sequence[int]
    ) -> list[Answered]:
        """Answer prompts together, as the adapter is switched now."""
        self._check_room(prompts, settings.max_tokens)
        return self._answered(Reading(self.decoder, prompts, settings.max_tokens), settings, places)

    def answered_and_held(
        self,
        prompts: Sequence[tuple[int, ...]],
        replies: Sequence[Sequence[tuple[int, ...]]],
        settings: AnswerSettings,
        places: Sequence[int],
    ) -> tuple[list[Answered], list[tuple[list[list[float]], list[list[bool]]]]]:
        """Answer prompts as `answered` does; before that, for each list of replies to them, find losses and hits.

        The prompts are read once for all of it.
        """
        reading = self._reading(prompts, replies, settings.max_tokens)
        held = [reading.losses(some) for some in replies]
        return self._answered(reading, settings, places), held

    def _reading(
        self, prompts: Sequence[tuple[int, ...]], replies: Sequence[Sequence[tuple[int, ...]]], room: int = 0
    ) -> Reading:
        """Read prompts with room for so many new tokens, and for the longest of the replies."""
        room = max(room, *(len(reply) for some in replies for reply in some))
        self._check_room(prompts, room)
        return Reading(self.decoder, prompts, room)

    def _answered(self, reading: Reading, settings: AnswerSettings, places: Sequence[int]) -> list[Answered]:
        end_ids, most = self.encoder.end_ids, settings.max_tokens
        found = generate_after(reading, end_ids, most, settings.sampling, places=places)
        texts = [settings.before_stop(self.encoder.reply(ids)) for ids in found]
        return [Answered(text, len(ids), len(ids) < most) for text, ids in zip(texts, found, strict=True)]

    def streamed(
        self,
        row: Mapping[str, str],
        settings: AnswerSettings,
        *,
        adapted: bool = True,
        before: Before = NO_SHOTS,
    ) -> Streamed:
        """Return the answer to one row in pieces of text as they are found; otherwise as `answers`."""
        prompt = self.prompt_ids(row, before)
        self._check_room([prompt], settings.max_tokens)
        return Streamed(self._tokens(prompt, settings, adapted), self.encoder.reply, settings)

    def _tokens(self, prompt: Sequence[int], settings: AnswerSettings, adapted: bool) -> Generator[int]:
        with self.switched(adapted):
            found = stream(self.decoder, [prompt], self.encoder.end_ids, settings.max_tokens, settings.sampling)
            yield from (token for _, token in found)

    def likelihoods(
        self, rows: Sequence[Mapping[str, str]], options: Sequence[str], *, adapted: bool = True, batch: int = 16
    ) -> list[list[float]]:
        """Return for each row the log-probability (nats) of each of these answers, its end marker included.

        Rows of like prompt length are read together, and each once for all options.
        """
        asked = [self._prompt_turns(row, NO_SHOTS, "question") for row in rows]
        prompts = [self.encoder.prompt(turns) for turns in asked]
        replies_of = [[self._reply_ids(turns, text) for text in options] for turns in asked]
        lengths = [len(p) + max(map(len, replies)) for p, replies in zip(prompts, replies_of, strict=True)]
        found: list[list[float]] = [[] for _ in rows]
        with self.switched(adapted):
            for chosen in together(lengths, batch, tokens_at_once(self.decoder)):
                replies = [[replies_of[index][n] for index in chosen] for n in range(len(options))]
                reading = self._reading([prompts[index] for index in chosen], replies)
                for losses, _ in map(reading.losses, replies):
                    for index, own in zip(chosen, losses, strict=True):
                        found[index].append(-sum(own))
        return found

    def likeliest(
        self, rows: Sequence[Mapping[str, str]], options: Sequence[str], *, adapted: bool = True
    ) -> list[str]:
        """Return for each row the likeliest of these answers, the first of equals."""
        found = self.likelihoods(rows, options, adapted=adapted)
        return [options[max(range(len(options)), key=own.__getitem__)] for own in found]

    def _reply_ids(self, asked: Sequence[Turn], reply: str) -> tuple[int, ...]:
        encoded = self.encoder.example((*asked, Turn("assistant", reply, learned=True)))
        return tuple(encoded.ids[encoded.n_prompt :])

    @property
    def room(self) -> int:
        """How many tokens a prompt and its answer may have together."""
        return self.decoder.spec.max_positions

    def _check_room(self, prompts: Sequence[tuple[int, ...]], max_tokens: int, where: str = "prompt") -> None:
        longest = max(map(len, prompts))
        if longest + max_tokens > self.room:
            what = f"{longest} prompt tokens and {max_tokens} to answer"
            raise InputError(
                where, "length", f"at most {self.room} tokens in all", what, "shorten it or use fewer shots"
            )

    def switched(self, adapted: bool) -> contextlib.AbstractContextManager[None]:
        """Switch the adapter on or off for the length of a `with` block; without one there is nothing to switch."""
        return self.adapter.switched(on=adapted) if self.adapter else contextlib.nullcontext()
