"""The page about a run."""

from .page import Page, page_html

__all__ = ["Page", "page_html"]
