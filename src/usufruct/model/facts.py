"""What is worth knowing of an archive beside its entries."""

from msgspec import Struct


class Facts(Struct):
    """How an archive is made, as its reader found it."""

    packing: tuple[str, ...] = ()
    """Methods by which entries are packed: `deflate`, `stored` and so on, most used first."""
    locks: tuple[str, ...] = ()
    """Ciphers by which entries are locked."""
    locked_entries: int = 0
    is_slow: bool = False
    """Python itself unpacks it, at a megabyte or two a second."""
    hides_names: bool = False
    """The listing itself is locked."""
    is_solid: bool = False
    """Entries are packed as one stream, so that none can be read without those before it."""
    volumes: tuple[str, ...] = ()
    """Absolute paths of the files that the archive consists of; empty for one inside another."""
    encoding: str = ""
    """Encoding by which names were read that do not say their own; empty where all do."""
    is_encoding_guessed: bool = False
    rival_encoding: str = ""
    """Another one that they may as well be in; empty where none is nearly as likely."""
    read_twice: tuple[tuple[str, str], ...] = ()
    """Some names as they are read in both."""
    is_program: bool = False
    """A self-extracting program, read as the archive it carries."""
    said_format: str = ""
    """What the file's name says it is, where that is not what it is."""
    what: str = ""
    """What a file is that is no archive, in words; empty for archives, and where it is not known."""
    has_better_names: bool = False
    """A disc's image that has a second table of its files, which is not read, with names that may be longer."""
    comment: str = ""
    is_rescued: bool = False
    """It is damaged, and only what came whole of it is listed."""
    lost: tuple[str, ...] = ()
    """Names of the entries that did not, as far as they are known."""
    behind: int = 0
    """Archives that stand behind the first one in the same file."""
    unread: tuple[tuple[int, int], ...] = ()
    """Stretches that were not understood, each by its offset and bytes; in a packed tar, of what it unpacks to."""
    has_checksums: bool = True
    """The format states checksums of its content."""
