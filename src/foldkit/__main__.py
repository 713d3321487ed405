"""`python -m foldkit`."""

from foldkit.cli import main

main()
