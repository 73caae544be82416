"""A group of commands with a default: any other first word is an argument of the default."""

import click

HELP = ("-h", "--help")


class GroupWithDefault(click.Group):
    """A group whose hidden command, of the empty name, takes all that no other command takes."""

    DEFAULT = ""

    def parse_args(self, ctx: click.Context, args: list[str]) -> list[str]:
        """Put the default in front where no command is named."""
        named = bool(args) and (args[0] in self.commands or args[0] in HELP)
        return super().parse_args(ctx, args if named else [self.DEFAULT, *args])

    def list_commands(self, ctx: click.Context) -> list[str]:
        """Return the commands in the order in which they were declared."""
        del ctx
        return [name for name in self.commands if name != self.DEFAULT]


def say_new_spelling(spelling: str) -> None:
    """Say how a call of an earlier version is written now; it is carried out all the same."""
    click.echo(f"dunmist: this is written '{spelling}' now", err=True)
