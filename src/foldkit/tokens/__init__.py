"""Tokenizers, end markers and markup read from model files; the one path from turns to ids."""

from .base_files import TextSide, open_text_side
from .encoding import Encoded, Encoder, Layout
from .tokenizer import Place, TextTokenizer

__all__ = ["Encoded", "Encoder", "Layout", "Place", "TextSide", "TextTokenizer", "open_text_side"]
