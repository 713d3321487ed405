"""Smoothing and drawing of run logs."""

from .drawing import draw, save_picture
from .smoothing import smooth

__all__ = ["draw", "save_picture", "smooth"]
