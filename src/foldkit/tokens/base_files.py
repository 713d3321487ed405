"""The text side of a base: tokenizer, end markers and markup, from a folder or a GGUF file. No weights are read."""

from __future__ import annotations

import functools
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from foldkit.formats import GgufFile, InputError, read_json
from foldkit.formats.jsonl import read_text
from foldkit.formats.pointer import refuse_pointer
from foldkit.templates import HEADINGS, PLAIN, Markup, Value

from .gguf_tokenizer import starts_texts, tokenizer_json
from .tokenizer import TextTokenizer


@dataclass(frozen=True)
class TextSide:
    """A base's tokenizer, the ids that end an answer, and its own chat markup, empty where it has none.

    `start_marker` is what the tokenizer itself sets before a text, `named_start` what the base's files name as such,
    which its own markup may write.
    """

    tokenizer: TextTokenizer
    end_ids: tuple[int, ...]
    chat_markup: str
    start_marker: str
    where: str
    named_start: str = ""

    @property
    def end_marker(self) -> str:
        """The token that ends an answer, the first one where several do."""
        return self.tokenizer.token(self.end_ids[0])

    def markup(self, choice: str = "auto", values: Mapping[str, Value] = {}) -> Markup:
        """Return the markup: the base's `own`, our `headings`, `plain` texts, or by `auto` its own where it has one.

        It is given the `values` of names that it reads, and a place for system texts where it has none. Raises
        InputError when its own is asked for and there is none, UsageError for a name that it does not read.
        """
        if choice == "own" and not self.chat_markup:
            raise InputError(self.where, "chat markup", "markup in the base's files", None, "use markup = 'headings'")
        ours = {"headings": HEADINGS, "plain": PLAIN}
        source = ours.get(choice, self.chat_markup or HEADINGS)
        start = self.named_start if source == self.chat_markup else ""
        return Markup(source, start or self.start_marker, self.end_marker, self.where).given(values).with_system()


def open_text_side(path: Path) -> TextSide:
    """Read the text side of a folder or a `.gguf` file."""
    if path.is_dir():
        return _from_folder(path)
    if path.suffix == ".gguf":
        return _from_gguf(GgufFile(path))
    if not path.exists():
        todo = "check the path of the base; nothing is fetched, so its files must be in a folder already"
        raise InputError(path, "base", "an existing folder or .gguf file", None, todo)
    todo = "give the folder that it stands in" if path.suffix == ".safetensors" else "check the path of the base"
    raise InputError(path, "base", "a folder or a .gguf file", path.name, todo)


def _from_folder(folder: Path) -> TextSide:
    config = _config(folder)
    where, tokenizer = str(folder), _tokenizer(folder, next(iter(_ids(config.get("vocab_size"))), None))
    generation = _json(folder / "generation_config.json", required=False)
    extra = _json(folder / "tokenizer_config.json", required=False)
    named = _named(extra.get("eos_token"), tokenizer)
    ends = _end_ids(
        [*named, *_ids(generation.get("eos_token_id")), *_ids(config.get("eos_token_id"))], tokenizer, where
    )
    start = _first(tokenizer.start_ids, tokenizer)
    named_start = _first(_named(extra.get("bos_token"), tokenizer), tokenizer)
    return TextSide(tokenizer, ends, _chat_markup(folder, extra), start, where, named_start)


def _config(folder: Path) -> dict[str, Any]:
    at = folder / "config.json"
    if at.exists():
        config = _json(at)
        # Of a base that reads more than text some of it stands with its part for text.
        part = config.get("text_config")
        return part | config if isinstance(part, dict) else config
    below = (path.parent for depth in ("*", "*/*") for path in sorted(folder.glob(f"{depth}/config.json")))
    todo = f"is it {found}?" if (found := next(below, None)) else "check the path of the base"
    raise InputError(at, "file", "a config.json in the base's folder", None, todo)


def _tokenizer(folder: Path, n_rows: int | None) -> TextTokenizer:
    at = folder / "tokenizer.json"
    if not at.exists():
        todo = "fetch it too; tokenizers in other forms are not read"
        raise InputError(at, "file", "a tokenizer.json in the base's folder", None, todo)
    refuse_pointer(at)
    return _opened(read_text(at), str(at), n_rows)


@functools.lru_cache(maxsize=2)
def _opened(source: str, where: str, n_rows: int | None) -> TextTokenizer:
    """Return the tokenizer, which several steps of a command ask for; a large one takes seconds to open."""
    return TextTokenizer(source, where, n_rows)


def _named(given: Any, tokenizer: TextTokenizer) -> list[int]:
    """Return the id of a token that settings name, as a text or with what it is like; none where it is unknown."""
    content = given.get("content") if isinstance(given, dict) else given
    found = tokenizer.id_of(content) if isinstance(content, str) else None
    return [] if found is None else [found]


def _chat_markup(folder: Path, extra: Mapping[str, Any]) -> str:
    """Return the chat markup, from the files that may hold it in the order in which they are taken; "" for none."""
    if (folder / "chat_template.jinja").exists():
        return read_text(folder / "chat_template.jinja")
    alone = _json(folder / "chat_template.json", required=False)
    return _default_of(extra.get("chat_template")) or _default_of(alone.get("chat_template"))


def _default_of(given: Any) -> str:
    """Return the chat markup, of several by name the one called default; "" for none."""
    if isinstance(given, list):
        named = {one.get("name"): one.get("template") for one in given if isinstance(one, dict)}
        given = named.get("default")
    return given if isinstance(given, str) else ""


def _from_gguf(file: GgufFile) -> TextSide:
    where, metadata = str(file.path), file.metadata
    embedding = file.tensors.get("token_embd.weight")
    tokenizer = _opened(tokenizer_json(metadata, where), where, embedding.shape[0] if embedding else None)
    # The end of a text, of a turn, and of a message that a tool is to answer.
    ends = [one for name in ("eos", "eot", "eom") for one in _ids(metadata.get(f"tokenizer.ggml.{name}_token_id"))]
    start = _first(_ids(metadata.get("tokenizer.ggml.bos_token_id")), tokenizer)
    adds = metadata.get("tokenizer.ggml.add_bos_token", starts_texts(metadata))
    source = str(metadata.get("tokenizer.chat_template", ""))
    return TextSide(tokenizer, _end_ids(ends, tokenizer, where), source, start if adds else "", where, start)


def _first(ids: Sequence[int], tokenizer: TextTokenizer) -> str:
    """Return the token of the first id that the tokenizer has, "" for none."""
    return next((tokenizer.token(one) for one in ids if one < tokenizer.vocab_size), "")


def _end_ids(ends: list[int], tokenizer: TextTokenizer, where: str) -> tuple[int, ...]:
    end_ids = tuple(dict.fromkeys(ends))
    if not end_ids:
        raise InputError(
            where, "eos_token_id", "at least one end id in the base's files", None, "add it to config.json"
        )
    if any(end >= tokenizer.vocab_size for end in end_ids):
        raise InputError(where, "eos_token_id", f"ids under {tokenizer.vocab_size}", end_ids, "check the files match")
    return end_ids


def _json(path: Path, *, required: bool = True) -> dict[str, Any]:
    return read_json(path, "fetch the file again") if required or path.exists() else {}


def _ids(value: Any) -> list[int]:
    return [item for item in (value if isinstance(value, list) else [value]) if isinstance(item, int) and item >= 0]
