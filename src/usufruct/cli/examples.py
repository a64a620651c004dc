"""One or two examples for each command, shown by its help and in the manual."""

EXAMPLES: dict[str, tuple[tuple[str, str], ...]] = {
    "look": (
        ("look owl-family.zip", "what it is, and where each file would go"),
        ("look Downloads --content", "every entry of every archive in a folder"),
    ),
    "add": (
        ("add owl-family.zip", "place it where its program looks"),
        ("add Downloads --afterwards trash", "everything in a folder; added archives go to the trash"),
        ("add gels.zip --to ~/shelf", "in a folder that you choose"),
    ),
    "downloads": (
        ("downloads --find owl", 'downloads with "owl" in their name'),
        ("downloads /media/stick", "the archives in another folder"),
    ),
    "list": (("list --sizes", "what takes up the most space"),),
    "show": (("show owl-family --notes", "one holding and its readme files"),),
    "remove": (
        ("remove owl-family", "remove it and restore what it replaced"),
        ('remove "owl*" --dry-run', "what would be removed, for all names that begin with owl"),
        ("remove owl-family --only '*.svg'", "only a part of it"),
    ),
    "whose": (("whose ~/Lanternbox --nobodys", "which files here are not in any holding"),),
    "check": (("check", "is everything still in place?"),),
    "repair": (("repair owl-family", "restore missing and damaged files"),),
    "undo": (
        ("undo", "undo the last change"),
        ("undo 12", "undo change number 12"),
    ),
    "redo": (("redo", "redo what was undone last"),),
    "history": (("history --all", "all changes, by number"),),
    "archives": (("archives --trash", "trash the archives of everything that is in place"),),
    "recover": (("recover", "what was interrupted, and what happened to it"),),
    "pack": (("pack owl-family --out for-a-friend.zip", "make an archive of a holding"),),
    "carry": (
        ("carry out all.zip", "write everything you added into one file"),
        ("carry in all.zip", "on the other machine: add it all"),
    ),
    "app": (
        ("app learn ~/Lanternbox", "make a definition from a folder with content"),
        ("app try Downloads", "which program each download would go to"),
    ),
    "settings": (("settings set afterwards trash", "trash archives after adding, from now on"),),
    "desktop": (("desktop on", "file managers offer Usufruct, and downloads are announced"),),
    "demo": (("demo --keep play", "a folder with sample data to play with"),),
    "completion": (("completion fish > ~/.config/fish/completions/usufruct.fish", "set up completion for fish"),),
    "manual": (("manual | man -l -", "read it"), ("manual definitions", "how a definition is written")),
}
"""Command → command lines, each with what it does."""


def epilog_of(command: str) -> str:
    """Return the examples as help shows them below the options; lines are kept."""
    from usufruct.cli.screen import is_narrow, wrapped

    if is_narrow():
        pairs = ("\n      ".join((f"  usufruct {line}", *wrapped(does, " " * 8))) for line, does in EXAMPLES[command])
        return "\b\nExamples:\n" + "\n".join(pairs)
    lines = [f"usufruct {words}" for words, _ in EXAMPLES[command]]
    wide = max(map(len, lines))
    meanings = (meaning for _, meaning in EXAMPLES[command])
    told = "\n".join(f"  {line.ljust(wide)}  {meaning}" for line, meaning in zip(lines, meanings, strict=True))
    return f"\b\nExamples:\n{told}"
