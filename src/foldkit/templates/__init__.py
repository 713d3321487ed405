"""A row to turns, turns to segments of text."""

from .markup import HEADINGS, Markup, Segment
from .template import Template, TemplateSettings, Turn, read_template, template_from_mapping

__all__ = [
    "HEADINGS",
    "Markup",
    "Segment",
    "Template",
    "TemplateSettings",
    "Turn",
    "read_template",
    "template_from_mapping",
]
