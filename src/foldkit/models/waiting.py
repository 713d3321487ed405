"""How long PyTorch's threads look out for one another before they sleep."""

from __future__ import annotations

import os

# The variables by which OpenMP is told; libgomp, which PyTorch's packages for Linux carry, has one of its own.
_TELLING = ("OMP_WAIT_POLICY", "GOMP_SPINCOUNT")
_LOOKS = 1000


def sleep_soon() -> None:
    """Let a thread that waits for another sleep soon, unless the environment says how it is to wait.

    By itself it looks out 300,000 times, without rest. Where another program is at work as well, that takes the
    processor from the very thread that is waited for. To be called before PyTorch is loaded.
    """
    if not any(name in os.environ for name in _TELLING):
        os.environ["GOMP_SPINCOUNT"] = str(_LOOKS)
