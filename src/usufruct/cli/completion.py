"""`usufruct completion`."""

import click
from click.shell_completion import get_completion_class

from usufruct.cli.screen import echo

_SHELLS = ("bash", "zsh", "fish")
_VARIABLE = "_USUFRUCT_COMPLETE"


@click.command(short_help="Print what makes a shell complete Usufruct's words.")
@click.argument("shell", type=click.Choice(_SHELLS))
@click.pass_context
def completion(context: click.Context, shell: str) -> None:
    """Print the script that makes SHELL complete commands, options, holdings, applications, folders and archives.

    \b
    bash  usufruct completion bash > ~/.local/share/bash-completion/completions/usufruct
    zsh   usufruct completion zsh > a file _usufruct in a directory of $fpath
    fish  usufruct completion fish > ~/.config/fish/completions/usufruct.fish
    """  # noqa: D301 - the sign for lines that are kept
    found = get_completion_class(shell)
    assert found, "Click knows all three"
    root = context.find_root()
    script = found(root.command, {}, root.info_name or "usufruct", _VARIABLE)
    # What the library would print, without asking the shell for its version: it may not be on this machine.
    echo(script.source_template % script.source_vars())
