"""Fingerprints: SHA-256 over the bytes of files or over a value's canonical JSON, as `sha256:` and 16 hex digits."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable, Mapping
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any


def fingerprint_files(paths: Iterable[Path]) -> str:
    """Return the fingerprint of the files' names and contents, in the order of their names; some are read at once."""
    total, ordered = hashlib.sha256(), sorted(paths, key=lambda path: path.name)
    with ThreadPoolExecutor() as pool:
        for path, digest in zip(ordered, pool.map(_digest, ordered), strict=True):
            total.update(path.name.encode("utf-8") + b"\0" + digest)
    return f"sha256:{total.hexdigest()[:16]}"


def _digest(path: Path) -> bytes:
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").digest()


def fingerprint_value(value: Any) -> str:
    """Return the fingerprint of a JSON value; keys are sorted, so their order does not matter."""
    return fingerprint_text(canonical_json(value))


def canonical_json(value: Any) -> str:
    """Return the JSON text that stands for a value in fingerprints."""
    return json.dumps(value, sort_keys=True, ensure_ascii=False, separators=(",", ":"))


def seal(values: Mapping[str, Any]) -> dict[str, Any]:
    """Return JSON values with their fingerprint, by which `unsealed` tells whether they are as they were."""
    return {**values, "seal": fingerprint_value(values)}


def unsealed(found: Any) -> dict[str, Any] | None:
    """Return what was sealed; None where it was not, or is not as it was."""
    if not isinstance(found, Mapping) or "seal" not in found:
        return None
    values = {name: value for name, value in found.items() if name != "seal"}
    return values if found["seal"] == fingerprint_value(values) else None


def fingerprint_text(text: str) -> str:
    """Return the fingerprint of a text."""
    return f"sha256:{hashlib.sha256(text.encode('utf-8')).hexdigest()[:16]}"
