"""`usufruct recover`."""

import click

from usufruct.actions.surroundings import Recovered, Surroundings
from usufruct.cli.screen import echo, echo_json, json_option
from usufruct.cli.surroundings import tell_recovery


@click.command(short_help="Reverse a change that was cut off.")
@json_option
def recover(*, as_json: bool) -> None:
    """Reverse a change that a crash or a power cut interrupted.

    Every command that writes does so first, by itself.
    """
    found: Recovered = []

    def keep(recovered: Recovered) -> None:
        found.extend(recovered)
        if not as_json:
            tell_recovery(recovered)

    with Surroundings(on_recovery=keep).writing("recover"):
        pass
    if as_json:
        changes = [{"change": str(change.kind), "about": change.about, "left": left} for change, left in found]
        echo_json({"reversed": changes})
    elif not found:
        echo("Nothing was cut off: there is nothing to recover.")
