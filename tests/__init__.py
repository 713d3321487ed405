"""Lets threads wait as they do in the command, before PyTorch is loaded."""

from foldkit.models.waiting import sleep_soon

sleep_soon()
