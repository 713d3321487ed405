"""Smoothing, diagnosis and drawing of runs, of the lengths of examples, and of learning rates that were tried."""

from .alarm import Alarm
from .curve import ACROSS, Curve, curve_of, read_curves, run_labels, thinned
from .diagnosis import FIGURES, Diagnosis, diagnose
from .drawing import draw, draw_figure, save_picture
from .lengths import draw_lengths, save_lengths
from .rates import draw_rates, save_rates
from .smoothing import smooth

__all__ = [
    "ACROSS",
    "FIGURES",
    "Alarm",
    "Curve",
    "Diagnosis",
    "curve_of",
    "diagnose",
    "draw",
    "draw_figure",
    "draw_lengths",
    "draw_rates",
    "read_curves",
    "run_labels",
    "save_lengths",
    "save_picture",
    "save_rates",
    "smooth",
    "thinned",
]
