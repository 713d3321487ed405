"""A group of commands: in the order people work, an unknown one refused with the near name."""

from __future__ import annotations

import difflib

import click


class Commands(click.Group):
    """A group that lists its commands in the order people work and suggests the near name of an unknown one."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        """Return the commands in the order they were added."""
        return list(self.commands)

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        """Find a command; an unknown one is refused with the near name."""
        if args and self.get_command(ctx, args[0]) is None and not args[0].startswith("-"):
            close = difflib.get_close_matches(args[0], list(self.commands), n=1)
            hint = f"did you mean {close[0]!r}?" if close else f"known: {', '.join(self.commands)}"
            raise click.UsageError(f"no command {args[0]!r}; {hint}", ctx)
        return super().resolve_command(ctx, args)
