"""`usufruct check`."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import click

from usufruct.cli import words
from usufruct.cli.context import real_context
from usufruct.cli.screen import count_words, echo, echo_json, json_option, path_words, size_words, styled, wrapped
from usufruct.files.printable import printable
from usufruct.files.shells import quoted
from usufruct.survey.condition import Condition

if TYPE_CHECKING:
    from usufruct.actions.checking import Checked, StoreCheck

_MOST_PATHS = 12
_WORDS = {
    Condition.CHANGED: "changed since",
    Condition.DAMAGED: "damaged: another content, though nobody wrote it",
    Condition.MISSING: "missing",
    Condition.REPLACED: "something else is there",
}


@click.command()
@click.argument("holdings", metavar="[HOLDING...]", nargs=-1, shell_complete=words.holdings)
@click.option("--deep", is_flag=True, help="Read every file, even if its size and time are unchanged.")
@click.option("--store", is_flag=True, help="Also read every backup and compare its checksum.")
@click.option("--full", "in_full", is_flag=True, help="List every file that is not fine.")
@json_option
def check(holdings: tuple[str, ...], *, deep: bool, store: bool, in_full: bool, as_json: bool) -> int:
    """Compare the files of each HOLDING, or of all, with what is on disk now. Changes nothing.

    The exit status is 1 if anything is changed, missing or damaged.
    """
    from usufruct.actions.checking import check_holdings, check_store
    from usufruct.actions.elsewhere import read_elsewhere

    context = real_context()
    results = []
    told: set[str] = set()
    for result in check_holdings(context, holdings, deep=deep):
        results.append(result)
        if not as_json:
            _tell(result, told, in_full=in_full)
    stored = check_store(context) if store else None
    elsewhere = read_elsewhere(context, [result.holding for result in results])
    if as_json:
        document: dict[str, Any] = {
            "holdings": [_document(result) for result in results],
            "elsewhere": [one._asdict() for one in elsewhere],
        }
        if stored:
            document["store"] = {
                "kept": stored.kept,
                "bytes": stored.size,
                "missing": list(stored.missing),
                "damaged": list(stored.damaged),
                "unneeded": list(stored.unneeded),
                "aside": list(stored.aside),
            }
        echo_json(document)
    else:
        if stored:
            _tell_store(stored)
        if not results:
            echo("Nothing has been added yet, so there is nothing to check.")
        else:
            echo()
            if elsewhere:
                from usufruct.cli.reports import elsewhere_lines

                for line in elsewhere_lines(elsewhere):
                    echo(line)
            for line in wrapped(_end(results), ""):
                echo(line)
    is_fine = all(result.is_fine for result in results) and (not stored or stored.is_fine)
    return 0 if is_fine else 1


def _end(results: list[Checked]) -> str:
    """Return the last line: the result, and what to do."""
    differing = [one for one in results if not one.is_fine]
    away = sum(one.away is not None for one in results)
    files = sum(one.fine for one in results)
    not_compared = f" {count_words(away, 'holding')} could not be compared." if away else ""
    if away == len(results):
        return f"{count_words(away, 'holding')} could not be compared."
    if not differing:
        holdings = count_words(len(results) - away, "holding")
        return f"Everything is in place: {holdings}, {count_words(files, 'file')}.{not_compared}"
    have = "has" if len(differing) == 1 else "have"
    said = f"{count_words(len(differing), 'holding')} of {len(results)} {have} files that differ."
    broken = [one.holding.name for one in differing if one.found.keys() & {Condition.MISSING, Condition.DAMAGED}]
    repair = f" `usufruct repair {quoted(broken[0])}` restores missing and damaged files." if broken else ""
    changed = any(one.found.keys() & {Condition.CHANGED, Condition.REPLACED} for one in differing)
    yours = " Files that you changed are never overwritten without asking." if changed else ""
    return f"{said}{repair}{yours}{not_compared}"


def _tell(result: Checked, told: set[str], *, in_full: bool) -> None:
    """Print one holding; `told` collects what was said about drives, which is said once for all holdings on one."""
    name = styled(printable(result.holding.name), "title")
    if result.away:
        echo(f"{styled('away   ', 'care')}  {name}  not compared")
        if result.away.remedy not in told:
            told.add(result.away.remedy)
            for line in wrapped(printable(f"{result.away.message} {result.away.remedy}"), "         "):
                echo(f"         {line}")
        return
    if result.is_fine:
        echo(f"{styled('fine   ', 'good')}  {name}  {count_words(result.fine, 'file')}")
        return
    echo(f"{styled('differs', 'care')}  {name}  {count_words(result.fine, 'file')} fine")
    for condition, paths in result.found.items():
        echo(f"         {count_words(len(paths), 'file')} {styled(_WORDS[condition], 'care')}")
        shown = paths if in_full else paths[:_MOST_PATHS]
        for path in shown:
            echo(f"           {path_words(path)}")
        if len(shown) < len(paths):
            echo(f"           … and {len(paths) - len(shown):,} more; --full names them")


def _tell_store(stored: StoreCheck) -> None:
    kept = f"{count_words(stored.kept, 'backup')}, {size_words(stored.size)}"
    if stored.is_fine:
        echo(f"{styled('fine   ', 'good')}  backups  {kept}")
    else:
        echo(f"{styled('bad    ', 'bad')}  backups  {kept}")
        for word, digests in (("missing", stored.missing), ("damaged", stored.damaged)):
            for digest in digests:
                echo(f"         {word} {digest}")
    if stored.unneeded:
        echo(f"         {count_words(len(stored.unneeded), 'backup')} that nothing on record needs; kept all the same")
    for path in stored.aside:
        echo(f"      damaged, and kept as {path_words(path)}")


def _document(result: Checked) -> dict[str, Any]:
    found = result.found
    changed = [*found.get(Condition.CHANGED, []), *found.get(Condition.DAMAGED, []), *found.get(Condition.REPLACED, [])]
    return {
        "name": result.holding.name,
        "fine": result.fine,
        "away": result.away is not None,
        "changed": sorted(changed),
        "missing": found.get(Condition.MISSING, []),
        "damaged": found.get(Condition.DAMAGED, []),
        "replaced": found.get(Condition.REPLACED, []),
    }
