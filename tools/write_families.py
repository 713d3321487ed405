"""Write docs/families.md anew from the tables that the code uses."""

from __future__ import annotations

from pathlib import Path

from foldkit.formats import BLOCK_TYPES
from foldkit.models.families import FAMILIES
from foldkit.models.gguf_families import GGUF_FAMILIES
from foldkit.tokens.gguf_tokenizer import PRE_SPLITTERS

# Families of which a real file was opened and answered by the tests; the others stand on derivations alone.
REAL = {("llama", "GGUF")}


def page() -> str:
    """Return the page."""
    by_type = {name: [a for a, family in GGUF_FAMILIES.items() if family.model_type == name] for name in FAMILIES}
    lines = [
        "| family (`model_type`) | folder | GGUF | adapters | real file tried |",
        "|---|---|---|---|---|",
    ]
    for name in FAMILIES:
        tried = ", ".join(kind for family, kind in sorted(REAL) if family == name) or "derivation only"
        lines.append(f"| {name} | yes | {', '.join(by_type[name]) or '–'} | yes | {tried} |")
    blocks = ", ".join(block.name for block in BLOCK_TYPES.values())
    splitters = ", ".join(PRE_SPLITTERS)
    return f"""# Families of bases

A base is a folder of `config.json`, `tokenizer.json` and `*.safetensors`, or one GGUF file. One decoder serves all
families; what differs stands in a frozen `ModelSpec`. Each family is tested against a derivation of its own, layer by
layer. A config that says something the decoder cannot do is refused with the name of the key.

{chr(10).join(lines)}

The column GGUF says what such a file calls the family; those of mistral name themselves llama, those of
olmo3 olmo2. What its metadata say and the decoder cannot do is refused by its key too. Those of gemma2 and
gemma3 do not say how attention is scaled; the published values are used. Rotary positions may be stretched by the rules
linear, llama3, yarn and longrope; past the original positions of longrope a context is refused.

Of a base in a folder that reads pictures or sounds too, whose config has a `text_config` of one of these families, the
part for text is opened, and its other weights are left alone; so with qwen2_vl, qwen2_5_vl and qwen3_vl. Made-up files
of such bases were tried, no real ones.

Tokenizers come from `tokenizer.json`, or from GGUF metadata: byte-level pairs with the pre-splitters
{splitters};
pieces joined by score, and unigrams. Texts are encoded apart from the markup around them, so that none is taken for
markup, and yet as in the whole: a blank at the end of markup goes into the text behind it, one that a tokenizer puts
before texts stands where it would, and one that a markup writes before a reply, but not when it asks for one, is
learned as the beginning of the reply, and taken off answers.

The turns of a template stand in the chat markup that a base's files carry, and under plain headings (`== user ==`, each
reply closed by the end marker) where they carry none. `markup` in `[base]` says so itself: `own`, which is refused
where there is none, `headings`, `auto`, or `plain`: the texts of the turns with nothing between, each reply closed by
the end marker, for prompts that a template writes whole and for texts that are learned as they are.
A system text goes to the top of the question, a blank line between, where a markup takes no system turn or leaves it
out; `foldkit build` says in how many rows.
A reply is closed by the first end marker behind it. Where a markup closes replies with none that the base's files
name, as of bases that were never trained on their own markup, the control token that it closes them with is learned,
and ends answers too; `foldkit build` says so.

Some markups open a reply otherwise when they ask for one than they write
it in a conversation, with an empty block of thoughts for one: the last reply is learned after what asks for it, and
`foldkit look --template` shows both. Learned replies before it stand as in a conversation; `foldkit build` says in how
many rows that is not what asks for them. Some leave out the thoughts of a reply once it is an earlier one:
the last reply is learned with its thoughts, earlier ones stand without, as at asking, and `foldkit build` says in how
many rows.

What else a markup reads is given to it in the sheet, and goes with the adapter; `foldkit look --template` lists names.

```toml
[base.markup_values]
enable_thinking = false         # a name that the markup reads
strftime_now = "2026-11-29"     # the day that it writes, where it asks for one
```

A markup that needs a day and is told none gets 1 January 2026, at training as at asking, so that a prompt is the same
tomorrow.

Block types of GGUF, each bit-checked against the format's own package:
{blocks}.
They are expanded to float32 when the base is opened.

Everything here was run on CPUs alone.
"""


if __name__ == "__main__":
    (Path(__file__).parents[1] / "docs" / "families.md").write_text(page(), encoding="utf-8")
