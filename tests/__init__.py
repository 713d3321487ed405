"""One thread for each process, before PyTorch is loaded: what tests compute is small, and several run at once."""

import os

os.environ.setdefault("OMP_NUM_THREADS", "1")
