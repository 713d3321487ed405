"""The sample world of Pellam Sound: its data, their generator, and the base that ships."""

from .files import PELLAM, copy_demo

__all__ = ["PELLAM", "copy_demo"]
