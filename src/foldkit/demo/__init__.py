"""The sample world of Pellam Sound: its data, their generator, and the base that ships."""

from .files import PELLAM, SAMPLES, copy_demo, copy_sample

__all__ = ["PELLAM", "SAMPLES", "copy_demo", "copy_sample"]
