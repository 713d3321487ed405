"""A row to turns, turns to segments of text."""

from .markup import HEADINGS, Markup, Written
from .template import Template, TemplateSettings, Turn, read_template, template_from_mapping

__all__ = [
    "HEADINGS",
    "Markup",
    "Template",
    "TemplateSettings",
    "Turn",
    "Written",
    "read_template",
    "template_from_mapping",
]
