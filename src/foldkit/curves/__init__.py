"""Smoothing and drawing of run logs, of the lengths of examples, and of learning rates that were tried."""

from .drawing import draw, save_picture
from .lengths import draw_lengths, save_lengths
from .rates import draw_rates, save_rates
from .smoothing import smooth

__all__ = ["draw", "draw_lengths", "draw_rates", "save_lengths", "save_picture", "save_rates", "smooth"]
