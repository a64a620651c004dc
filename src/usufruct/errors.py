"""Everything that can go wrong, as one tree. This module imports nothing.

    UsufructError
    ├── WrongUsage            2  the command cannot mean anything
    │   ├── MissingArchive    2  what was named is not there
    │   └── BadDefinition     2  an application's TOML file is at fault
    ├── DecisionNeeded        3  only the user can answer
    │   └── PasswordNeeded       a password, and nobody to ask for it
    ├── ArchiveError          4  about the downloaded file
    │   ├── NotAnArchive         nothing here that can be read
    │   ├── Misnamed             called an archive, but something else that is known
    │   ├── EmptyArchive         an archive without any entry
    │   ├── DamagedArchive       begun as an archive, but its bytes do not hold together
    │   │   └── IncompleteArchive   because a part or its end is not here
    │   ├── StillArriving        a download that is not complete yet
    │   ├── WrongPassword        none of the passwords opens it
    │   ├── UnsafeArchive        entries that would leave the destination, or an archive made to do harm
    │   └── UnreadableArchive    a format, method or cipher that is not supported, by name
    ├── MachineError          5  missing folder, permission, space, something in the way
    │   ├── PlanIsStale          the disk changed between plan and act
    │   ├── DiffersFromRecord    a file is not what it was when it was looked at
    │   ├── LeadsElsewhere       a directory on the way to a file is a link now
    │   ├── DriveAway            the drive is not there, or another one is in its place
    │   └── StoreError           the ledger or the backups are not what they should be
    │       └── UnsoundBackup       a replaced file whose backup is missing or damaged
    ├── Busy                  6  another Usufruct is at work
    └── Interrupted         130  stopped by the user; the change was reversed

The number is the exit code. Errors never print and never decide how they look: the interface does.
"""


class UsufructError(Exception):
    """A failure the user can do something about, told in three sentences."""

    exit_code = 5
    code = "failed"
    """Stable kebab-case name for programs that read the JSON."""

    def __init__(self, message: str, *, kept: str = "Nothing was changed.", remedy: str, path: str = "") -> None:
        super().__init__(message)
        self.message = message
        """What happened."""
        self.kept = kept
        """What was left as it was."""
        self.remedy = remedy
        """The next thing to do."""
        self.path = path
        """The file or folder it is about, where there is one."""

    def __reduce__(self) -> tuple[object, ...]:
        """So that an error can be handed from one process to another."""
        return _made_again, (type(self), str(self), vars(self))


def _made_again(kind: type[UsufructError], message: str, values: dict[str, object]) -> UsufructError:
    error = kind.__new__(kind, message)
    vars(error).update(values)
    return error


class WrongUsage(UsufructError):
    """The command's words do not fit together or name something unknown."""

    exit_code = 2
    code = "wrong-usage"


class MissingArchive(WrongUsage):
    """What was named is not there."""

    code = "missing"


class BadDefinition(WrongUsage):
    """An application's definition cannot be used; the message names file, line and key."""

    code = "bad-definition"


class DecisionNeeded(UsufructError):
    """A question that only the user can answer."""

    exit_code = 3
    code = "decision-needed"


class PasswordNeeded(DecisionNeeded):
    """A password is needed, and nobody can be asked."""

    code = "password-needed"


class ArchiveError(UsufructError):
    """Something about the downloaded file itself."""

    exit_code = 4
    code = "archive-error"


class NotAnArchive(ArchiveError):
    """The content is none of the formats that can be read."""

    code = "not-an-archive"
    what = ""
    """What it is instead, in words with their article; empty where that is not known."""


class Misnamed(ArchiveError):
    """The name says that it is an archive, and the content is something else that is known."""

    code = "misnamed"


class EmptyArchive(ArchiveError):
    """An archive that is sound and holds nothing."""

    code = "empty"


class DamagedArchive(ArchiveError):
    """The file says it is an archive, but its bytes do not hold together."""

    code = "damaged"


class IncompleteArchive(DamagedArchive):
    """A part of the archive is not here, or its end."""


class StillArriving(ArchiveError):
    """A browser is still downloading the file."""

    code = "still-arriving"


class WrongPassword(ArchiveError):
    """No password that was given opens the archive; nothing says that it is damaged."""

    code = "wrong-password"


class UnsafeArchive(ArchiveError):
    """At least one entry would leave the destination, or the archive is made to do harm."""

    code = "unsafe"


class UnreadableArchive(ArchiveError):
    """A format, method or cipher that cannot be read; the message names it."""

    code = "unreadable"


class MachineError(UsufructError):
    """The machine says no: a missing folder, a permission, space, something in the way."""

    code = "machine"


class PlanIsStale(MachineError):
    """The disk is no longer as it was when the plan was made."""

    code = "plan-is-stale"


class DiffersFromRecord(MachineError):
    """The content of a file is another than it was when it was looked at."""

    code = "differs-from-record"


class LeadsElsewhere(MachineError):
    """A directory that was one when it was recorded is a link now: nothing is done through it."""

    code = "leads-elsewhere"


class DriveAway(MachineError):
    """The drive that something lies on is not there, or another one is in its place."""

    code = "drive-away"


class StoreError(MachineError):
    """The ledger or the backups are not what they should be."""

    code = "store"


class UnsoundBackup(StoreError):
    """The backup of a replaced file is missing, or its content is another than it was."""

    code = "unsound-backup"


class Busy(UsufructError):
    """Another Usufruct holds the lock."""

    exit_code = 6
    code = "busy"


class Interrupted(UsufructError):
    """The user stopped the command; what had begun was reversed."""

    exit_code = 130
    code = "interrupted"
