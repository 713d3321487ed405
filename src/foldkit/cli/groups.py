"""A group of commands: in the order people work, an unknown one refused with the near name."""

from __future__ import annotations

import click

from foldkit.formats.errors import near_name


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
            raise click.UsageError(f"no command {args[0]!r}; {near_name(args[0], self.commands)}", ctx)
        return super().resolve_command(ctx, args)
