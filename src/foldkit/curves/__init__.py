"""Smoothing and drawing of run logs, and of the lengths of examples."""

from .drawing import draw, save_picture
from .lengths import draw_lengths, save_lengths
from .smoothing import smooth

__all__ = ["draw", "draw_lengths", "save_lengths", "save_picture", "smooth"]
