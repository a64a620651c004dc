"""`usufruct completion`."""

import os
import shlex

import click
from click.shell_completion import CompletionItem, ShellComplete, add_completion_class, get_completion_class

from usufruct.cli.screen import echo_json, echo_text, json_option

_SHELLS = ("bash", "zsh", "fish", "powershell")
_VARIABLE = "_USUFRUCT_COMPLETE"
_BASH = r"""
%(complete_func)s() {
    local IFS=$'\n' line value
    COMPREPLY=()
    while IFS= read -r line; do
        case $line in
            plain,*)
                # Suggestions come from files and archives: whatever they contain, each must stay one word.
                value=${line#plain,}
                [[ $value == */ ]] && compopt -o nospace
                case ${COMP_WORDS[COMP_CWORD]} in
                    \"*)
                        value=${value//\\/\\\\}
                        value=${value//\"/\\\"}
                        value=${value//\$/\\\$}
                        value=${value//\`/\\\`}
                        # In double quotes, nothing prevents history expansion of this character.
                        value=${value//\!/\"\\\!\"}
                        ;;
                    \'*) value=${value//\'/\'\\\'\'} ;;
                    *) printf -v value '%%q' "$value" ;;
                esac
                COMPREPLY+=("$value")
                ;;
            dir,*) compopt -o dirnames ;;
            file,*) compopt -o default ;;
        esac
    done <<< "$(env COMP_WORDS="${COMP_WORDS[*]}" COMP_CWORD="$COMP_CWORD" %(complete_var)s=bash_complete "$1")"
}

complete -o nosort -F %(complete_func)s %(prog_name)s
"""
_FISH = r"""
function %(complete_func)s
    set -lx COMP_WORDS (commandline -cp)
    set -lx COMP_CWORD (commandline -t)
    for line in (env %(complete_var)s=fish_complete %(prog_name)s)
        set -l parts (string split -m 1 ',' -- $line)
        switch $parts[1]
            case dir
                __fish_complete_directories $parts[2]
            case file
                __fish_complete_path $parts[2]
            case plain
                printf '%%s\n' $parts[2]
        end
    end
end

complete --no-files --command %(prog_name)s --arguments "(%(complete_func)s)"
"""
_POWERSHELL = r"""
Register-ArgumentCompleter -Native -CommandName %(prog_name)s -ScriptBlock {
    param($word, $line, $cursor)
    $before = $line.CommandElements | Select-Object -Skip 1 | Where-Object { $_.Extent.EndOffset -lt $cursor }
    $words = $before | ForEach-Object { if ($null -ne $_.Value) { "$($_.Value)" } else { "$_" } }
    $encoding = [Console]::OutputEncoding
    try {
        [Console]::OutputEncoding = [Text.UTF8Encoding]::new($false)
        $env:PYTHONIOENCODING = "utf-8"
        $env:COMP_WORDS = $words -join "`n"
        $env:COMP_CWORD = $word
        $env:%(complete_var)s = "powershell_complete"
        $found = @(%(prog_name)s)
    } finally {
        [Console]::OutputEncoding = $encoding
        "PYTHONIOENCODING", "COMP_WORDS", "COMP_CWORD", "%(complete_var)s" | ForEach-Object {
            Remove-Item "Env:$_" -ErrorAction SilentlyContinue
        }
    }
    foreach ($one in $found) {
        $kind, $value = $one -split ",", 2
        if ($kind -ne "plain") {
            [Management.Automation.CompletionCompleters]::CompleteFilename($word)
            continue
        }
        $value, $help = $value -split "`t", 2
        # Suggestions come from files and archives: whatever they contain, each must stay one word.
        $typed = $value
        if ($value -notmatch "^[\w.:/\=+-]+$") { $typed = "'" + $value.Replace("'", "''") + "'" }
        if (-not $help) { $help = $value }
        [Management.Automation.CompletionResult]::new($typed, $value, "ParameterValue", $help)
    }
}
"""
_OWN = {"bash": _BASH, "fish": _FISH, "powershell": _POWERSHELL}
"""Scripts in the place of the library's, which let a name be more than one word. What it has for zsh quotes already."""


@add_completion_class
class PowerShell(ShellComplete):
    """The script for PowerShell passes the words before the one that is completed, one per line."""

    name = "powershell"
    source_template = _POWERSHELL

    def get_completion_args(self) -> tuple[list[str], str]:
        """Return the words before, and the beginning of the one that is completed, without its quotes."""
        said = os.environ.get("COMP_WORDS", "")
        words = said.split("\n") if said else []
        # Provide the whole line in the form of the other shells.
        os.environ["COMP_WORDS"] = shlex.join(["usufruct", *words])
        return words, os.environ.get("COMP_CWORD", "").strip("'\"")

    def format_completion(self, item: CompletionItem) -> str:
        """Return its kind, the word, and its meaning."""
        return f"{item.type},{item.value}\t{item.help or ''}"


@click.command()
@click.argument("shell", type=click.Choice(_SHELLS))
@json_option
@click.pass_context
def completion(click_context: click.Context, shell: str, *, as_json: bool) -> None:
    """Print the script that makes SHELL complete commands, options, holdings, applications, folders and archives.

    \b
    bash  usufruct completion bash > ~/.local/share/bash-completion/completions/usufruct
    zsh   usufruct completion zsh > a file _usufruct in a directory of $fpath
    fish  usufruct completion fish > ~/.config/fish/completions/usufruct.fish
    powershell  usufruct completion powershell >> $PROFILE
    """  # noqa: D301 - the sign for lines that are kept
    found = get_completion_class(shell)
    assert found, "Click knows three, and the fourth is ours"
    root = click_context.find_root()
    script = found(root.command, {}, root.info_name or "usufruct", _VARIABLE)
    # What Click would print, without running the shell for its version: it may not be installed.
    text = _OWN.get(shell, script.source_template) % script.source_vars()
    if as_json:
        echo_json({"shell": shell, "script": text})
    else:
        echo_text(text)
