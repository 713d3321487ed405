"""Imports the package before PyTorch, whose threads then wait as they do in the command."""

import foldkit as foldkit
