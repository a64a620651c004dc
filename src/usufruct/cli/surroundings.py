"""The surroundings of a command, with what is told on standard error."""

import click

from usufruct.actions.surroundings import Recovered, Surroundings
from usufruct.model.progress import Watch, unwatched


def surroundings(watch: Watch = unwatched) -> Surroundings:
    """The real world, telling of recovered changes, and of progress where somebody watches."""
    return Surroundings(on_recovery=tell_recovery, watch=watch)


def tell_recovery(recovered: Recovered) -> None:
    """Say which changes had been cut off and were reversed."""
    for change, strangers in recovered:
        click.echo(
            f"An earlier {change.kind} of {change.about} was cut off; it was reversed, all is as before it.", err=True
        )
        for path in strangers:
            click.echo(f"  {path} was changed by something else since and was left as it is.", err=True)
