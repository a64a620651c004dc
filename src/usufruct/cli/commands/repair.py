"""`usufruct repair`."""

from pathlib import Path
from typing import Any

import click

from usufruct.cli import words
from usufruct.cli.context import real_context
from usufruct.cli.options import access_of, access_options
from usufruct.cli.screen import count_words, echo, echo_json, json_option, path_words, styled
from usufruct.files.printable import printable


@click.command()
@click.argument("holding", shell_complete=words.holdings)
@click.option("--archive", type=click.Path(path_type=Path), help="Where the archive is now, if you moved it.")
@click.option(
    "--changed",
    type=click.Choice(["leave", "give-back"]),
    default="leave",
    show_default=True,
    help="Files you changed since: leave them, or move them to the trash and restore them from the archive.",
)
@access_options
@json_option
def repair(holding: str, *, archive: Path | None, changed: str, as_json: bool, **options: Any) -> int:
    """Restore the missing and damaged files of HOLDING from its archive. Nothing else is written.

    The exit status is 1 if files stay because you changed them since.
    """
    from usufruct.actions.repairing import repair as repair_action

    context = real_context()
    done = repair_action(
        context, holding, access_of(context, options), archive, gives_back_changed=changed == "give-back"
    )
    if as_json:
        echo_json(
            {
                "name": done.holding.name,
                "written": list(done.written),
                "changed": list(done.left),
                "saved": list(done.saved),
            }
        )
        return 1 if done.left else 0
    name = styled(printable(done.holding.name), "title")
    if not done.written:
        echo(f"{name}: nothing is missing or damaged.")
    else:
        echo(f"{styled('Repaired', 'good')} {name}: {count_words(len(done.written), 'file')} put back")
        for path in done.written[:12]:
            echo(f"  {path_words(path)}")
        if len(done.written) > 12:
            echo(f"  … and {len(done.written) - 12:,} more")
    for path in done.left:
        echo(f"  {styled('changed since, and stays', 'care')}: {path_words(path)}")
    for path in done.saved:
        echo(f"  the changed file is kept as {path_words(path)}")
    return 1 if done.left else 0
