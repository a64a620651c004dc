"""An example or two for each command, shown by its help and in the manual."""

EXAMPLES: dict[str, tuple[tuple[str, str], ...]] = {
    "look": (
        ("look owl-family.zip", "what it is, and where each file would go"),
        ("look Downloads --content", "every entry of every archive in a folder"),
    ),
    "add": (
        ("add owl-family.zip", "place it where its application looks"),
        ("add Downloads --afterwards trash", "all in a folder; placed archives go to the trash"),
        ("add gels.zip --to ~/shelf", "in any directory, without an application"),
    ),
    "downloads": (("downloads --find owl", "what waits with this in its name"),),
    "list": (("list --sizes", "what takes the room"),),
    "show": (("show owl-family --notes", "one holding, and the texts that came with it"),),
    "remove": (
        ("remove owl-family", "take it out; what it replaced comes back"),
        ('remove "owl*" --dry-run', "what would go, of all whose names begin so"),
        ("remove owl-family --only '*.svg'", "a part of it"),
    ),
    "whose": (("whose ~/Lanternbox --nobodys", "how much is whose, and which files are of no holding"),),
    "check": (("check", "is all that was placed still there?"),),
    "repair": (("repair owl-family", "put missing and damaged files back from its archive"),),
    "undo": (
        ("undo", "reverse what was done last"),
        ("undo 12", "reverse one change by its number"),
    ),
    "redo": (("redo", "take the last undo back"),),
    "history": (("history --all", "all that was done, by number"),),
    "archives": (("archives --trash", "let the archives go of all that is safely placed"),),
    "recover": (("recover", "what was cut off, and what became of it"),),
    "pack": (("pack owl-family --out for-a-friend.zip", "a holding as an archive again"),),
    "carry": (
        ("carry out all.zip", "all that was added, for another machine"),
        ("carry in all.zip", "and there"),
    ),
    "app": (
        ("app learn ~/Lanternbox", "propose a definition from a folder with content"),
        ("app try Downloads", "which definition gets each download"),
    ),
    "settings": (("settings set afterwards trash", "for all commands from now on"),),
    "desktop": (("desktop on", "file managers offer it, and downloads are told of"),),
    "demo": (("demo --keep play", "a folder with sample data to play with"),),
    "completion": (("completion fish > ~/.config/fish/completions/usufruct.fish", "for this shell"),),
    "manual": (("manual | man -l -", "read it"), ("manual definitions", "how a definition is written")),
}
"""Command → command lines, each with what it does."""


def epilog_of(command: str) -> str:
    """The examples as a help text shows them below the options; lines are kept."""
    lines = [f"usufruct {words}" for words, _ in EXAMPLES[command]]
    wide = max(map(len, lines))
    meanings = (meaning for _, meaning in EXAMPLES[command])
    told = "\n".join(f"  {line.ljust(wide)}  {meaning}" for line, meaning in zip(lines, meanings, strict=True))
    return f"\b\nExamples:\n{told}"
