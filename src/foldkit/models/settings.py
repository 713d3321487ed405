"""Which base, and how turns are marked up for it."""

from __future__ import annotations

from dataclasses import dataclass, field

from foldkit.formats import UsageError, one_of

MARKUPS = ("auto", "own", "headings", "plain")
COMPUTES = ("float32", "bfloat16", "auto")
DEVICES = ("cpu", "cuda", "auto")
WEIGHTS = ("float32", "stored", "bfloat16", "int8", "nf4")


@dataclass(frozen=True)
class BaseSettings:
    """The base: `pellam`, which ships, a folder, or a `.gguf` file.

    `markup` is its `own`, our `headings`, `plain` texts with nothing between, or `auto`: its own where it has one.
    `markup_values` are those of other names that its own reads, such as `{ enable_thinking = false }`.
    `weights` says how its matrices are held in memory: expanded to `float32`, as `stored`, or in `bfloat16`, `int8` or
    `nf4`. `compute` is the dtype of products with them; `auto` measures once which of the two is faster here.
    `device` is where it is computed; `auto` is a GPU where PyTorch can use one (`cuda`), else the processor (`cpu`).
    With `sharded` the processes of a training each hold a part of the layers, and gather one when it is used.
    """

    model: str = "pellam"
    markup: str = "auto"
    markup_values: dict[str, bool | int | float | str] = field(default_factory=dict)
    weights: str = "float32"
    compute: str = "float32"
    device: str = "auto"
    sharded: bool = False

    def __post_init__(self) -> None:
        if self.sharded and self.weights != "float32":
            todo = "leave out sharded, or hold the weights in float32"
            raise UsageError("[base]", "sharded", "weights that are held in float32", self.weights, todo)
        one_of(self.markup, MARKUPS, "[base]", "markup")
        one_of(self.weights, WEIGHTS, "[base]", "weights")
        one_of(self.compute, COMPUTES, "[base]", "compute")
        one_of(self.device, DEVICES, "[base]", "device")
