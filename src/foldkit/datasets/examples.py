"""Examples, and a part of a built dataset as a sequence of them that stays on disk until they are asked for."""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, overload

import numpy as np

from foldkit.tokens import Encoded

if TYPE_CHECKING:
    import pyarrow


@dataclass(frozen=True)
class Example:
    """One tokenised row: its number, its token ids, and the half-open spans of them that are learned.

    `rejected` are the ids of a worse reply after the same prompt, its end marker among them; empty where there is none.
    """

    row: int
    ids: tuple[int, ...]
    spans: tuple[tuple[int, int], ...]
    rejected: tuple[int, ...] = ()

    @property
    def prompt(self) -> tuple[int, ...]:
        """The ids before the last learned reply."""
        return self.ids[: self.spans[-1][0]]

    @property
    def chosen(self) -> tuple[int, ...]:
        """The ids of the last learned reply, its end marker among them."""
        start, end = self.spans[-1]
        return self.ids[start:end]

    @property
    def n_tokens(self) -> int:
        """Count of all tokens, those of a worse reply among them."""
        return len(self.ids) + len(self.rejected)

    @property
    def n_learned(self) -> int:
        """Count of learned tokens."""
        return sum(end - start for start, end in self.spans)

    @property
    def learned(self) -> tuple[bool, ...]:
        """For each id whether it is learned."""
        return Encoded(self.ids, self.spans).learned


class Examples(Sequence[Example]):
    """The examples of one part, in order of their rows, over an Arrow table with `row`, `ids`, `spans`, `rejected`."""

    def __init__(self, table: pyarrow.Table) -> None:
        self.table = table

    @classmethod
    def of(
        cls,
        rows: Sequence[int],
        ids: Sequence[int],
        ends: Sequence[int],
        spans: Sequence[int],
        span_ends: Sequence[int],
        rejected: Sequence[int] = (),
        rejected_ends: Sequence[int] = (),
    ) -> Examples:
        """Return examples in memory: ids, span bounds, rejected ids one after the other, and where each example's end.

        Without `rejected_ends` no example has a rejected reply.
        """
        import pyarrow

        lists: Any = pyarrow.ListArray
        arrays = [pyarrow.array(np.array(rows, dtype=np.int64))]
        none = rejected_ends or [0] * (len(rows) + 1)
        for values, bounds in ((ids, ends), (spans, span_ends), (rejected, none)):
            flat, offsets = np.array(values, dtype=np.int32), np.array(bounds, dtype=np.int32)
            arrays.append(lists.from_arrays(pyarrow.array(offsets), pyarrow.array(flat)))
        return cls(pyarrow.table(arrays, schema=schema()))

    def __len__(self) -> int:
        return int(self.table.num_rows)

    @overload
    def __getitem__(self, index: int) -> Example: ...

    @overload
    def __getitem__(self, index: slice) -> list[Example]: ...

    def __getitem__(self, index: int | slice) -> Example | list[Example]:
        if isinstance(index, slice):
            return [self[at] for at in range(len(self))[index]]
        at = range(len(self))[index]
        return next(_examples(self.table.slice(at, 1)))

    def __iter__(self) -> Iterator[Example]:
        for batch in self.table.to_batches():
            yield from _examples(batch)

    def chosen(self, flags: np.ndarray) -> Examples:
        """Return those whose flag is set, bool (n,)."""
        import pyarrow

        return Examples(self.table.filter(pyarrow.array(flags)))

    @property
    def rows(self) -> np.ndarray:
        """The row number of every example, int64 (n,)."""
        return np.asarray(self.table.column("row").to_numpy())

    @property
    def lengths(self) -> np.ndarray:
        """The length of every example in tokens, int64 (n,)."""
        return np.diff(self._flat("ids")[1])

    @property
    def rejected_lengths(self) -> np.ndarray:
        """The length of every rejected reply in tokens, int64 (n,)."""
        return np.diff(self._flat("rejected")[1])

    @property
    def prompt_lengths(self) -> np.ndarray:
        """How many tokens of every example stand before its last learned span, int64 (n,)."""
        spans, ends = self._flat("spans")
        return np.asarray(spans[ends[1:] - 2])

    @property
    def have_chosen(self) -> np.ndarray:
        """Whether each example has a reply to learn, not a rejected one alone, bool (n,)."""
        spans, ends = self._flat("spans")
        return np.asarray(spans[ends[1:] - 1] > spans[ends[1:] - 2])

    @property
    def learned_lengths(self) -> np.ndarray:
        """How many tokens of every example are learned, int64 (n,)."""
        spans, ends = self._flat("spans")
        sums = np.concatenate([[0], np.cumsum(spans[1::2] - spans[::2], dtype=np.int64)])
        return np.diff(sums[ends // 2])

    def learned_ids(self) -> tuple[np.ndarray, np.ndarray]:
        """Return the ids that are learned, those of worse replies too, and how often each is: int64 (n,) and (n,)."""
        ids, ends = self._flat("ids")
        spans, span_ends = self._flat("spans")
        bounds = spans + np.repeat(ends[:-1], np.diff(span_ends))
        steps = np.zeros(len(ids) + 1, dtype=np.int8)
        np.add.at(steps, bounds[::2], 1)
        np.add.at(steps, bounds[1::2], -1)
        learned = np.cumsum(steps[:-1], dtype=np.int8).astype(bool)
        return np.unique(np.concatenate([ids[learned], self._flat("rejected")[0]]), return_counts=True)

    def texts(self) -> Iterator[bytes]:
        """Yield for each example the bytes of its ids and of those of its worse reply."""
        for own, worse in zip(self._bytes("ids"), self._bytes("rejected"), strict=True):
            yield own + worse

    def buffers(self) -> Iterator[bytes]:
        """Yield the bytes of rows, and of lengths and values of ids, spans and rejected ids, for fingerprints."""
        yield self.rows.astype("<i8").tobytes()
        for name in ("ids", "spans", "rejected"):
            values, ends = self._flat(name)
            yield np.diff(ends).astype("<i8").tobytes()
            yield values.astype("<i4").tobytes()

    def _bytes(self, name: str) -> Iterator[bytes]:
        values, ends = self._flat(name)
        data = values.tobytes()
        for start, end in itertools.pairwise((ends * values.itemsize).tolist()):
            yield data[start:end]

    def _flat(self, name: str) -> tuple[np.ndarray, np.ndarray]:
        """Return the values of a column one after the other, and where each example's begin and end, int64 (n+1,)."""
        import pyarrow.compute

        column = self.table.column(name)
        sizes = pyarrow.compute.list_value_length(column).to_numpy()
        ends = np.concatenate([[0], np.cumsum(sizes, dtype=np.int64)])
        return np.asarray(pyarrow.compute.list_flatten(column).to_numpy()), ends


def row_numbers(examples: Sequence[Example]) -> list[int]:
    """Return the row of each example, of a part on disk without reading the examples."""
    if not isinstance(examples, Examples):
        return [example.row for example in examples]
    rows: list[int] = examples.rows.tolist()
    return rows


def token_counts(examples: Sequence[Example]) -> list[int]:
    """Return the count of all tokens of each example, of a part on disk without reading the examples."""
    if not isinstance(examples, Examples):
        return [example.n_tokens for example in examples]
    counts: list[int] = (examples.lengths + examples.rejected_lengths).tolist()
    return counts


def learned_counts(examples: Sequence[Example]) -> list[int]:
    """Return the count of learned tokens of each example, of a part on disk without reading the examples."""
    if not isinstance(examples, Examples):
        return [example.n_learned for example in examples]
    counts: list[int] = examples.learned_lengths.tolist()
    return counts


def schema() -> pyarrow.Schema:
    """Return the columns of a part."""
    import pyarrow

    numbers = pyarrow.list_(pyarrow.int32())
    return pyarrow.schema([("row", pyarrow.int64()), ("ids", numbers), ("spans", numbers), ("rejected", numbers)])


def _examples(table: pyarrow.Table | pyarrow.RecordBatch) -> Iterator[Example]:
    columns = (table.column(name).to_pylist() for name in ("row", "ids", "spans", "rejected"))
    for row, ids, ends, rejected in zip(*columns, strict=True):
        yield Example(row, tuple(ids), tuple(zip(ends[::2], ends[1::2], strict=True)), tuple(rejected))
