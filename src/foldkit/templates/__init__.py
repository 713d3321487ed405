"""A row to turns, turns to pieces of markup with texts between."""

from .markup import HEADINGS, PLAIN, Markup, Value, Written
from .rendering import Shape
from .template import Outline, Template, TemplateSettings, Turn, outline_of, read_template, template_from_mapping

__all__ = [
    "HEADINGS",
    "PLAIN",
    "Markup",
    "Outline",
    "Shape",
    "Template",
    "TemplateSettings",
    "Turn",
    "Value",
    "Written",
    "outline_of",
    "read_template",
    "template_from_mapping",
]
