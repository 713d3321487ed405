"""Lets threads be as they are in the command, before PyTorch is loaded."""

from foldkit.models.threads import tell_threads

tell_threads()
