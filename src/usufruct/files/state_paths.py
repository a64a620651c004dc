"""Where Usufruct keeps its definitions, ledger, backups and notes."""

import os
from pathlib import Path

from msgspec import Struct

from usufruct.files.paths import expanded

HOME_VARIABLE = "USUFRUCT_HOME"


class StatePaths(Struct, frozen=True):
    """The paths of Usufruct's own files."""

    config: Path
    """Holds what the user writes: `settings.toml` and `apps/`."""
    data: Path
    """Holds what Usufruct writes."""

    @classmethod
    def found(cls) -> "StatePaths":
        """Everything below `USUFRUCT_HOME` if that is set, else the platform's usual directories."""
        home = os.environ.get(HOME_VARIABLE)
        if home:
            top = expanded(home).absolute()
            return cls(top, top)
        # Imported here: it would cost commands with USUFRUCT_HOME 30 ms.
        import platformdirs

        return cls(
            Path(platformdirs.user_config_dir("usufruct", appauthor=False)),
            Path(platformdirs.user_data_dir("usufruct", appauthor=False)),
        )

    def own(self) -> tuple[str, str]:
        """The directories that contain all of it."""
        return str(self.config), str(self.data)

    @property
    def apps(self) -> Path:
        """The user's definitions, one TOML file for each application."""
        return self.config / "apps"

    @property
    def settings(self) -> Path:
        """The user's settings."""
        return self.config / "settings.toml"

    @property
    def passwords(self) -> Path:
        """Passwords that the user keeps for archives, one on each line; readable by the user alone."""
        return self.config / "passwords"

    @property
    def ledger(self) -> Path:
        """The SQLite record."""
        return self.data / "ledger.sqlite3"

    @property
    def backups(self) -> Path:
        """Replaced files, by content."""
        return self.data / "backups"

    @property
    def notes(self) -> Path:
        """Readme files, one directory for each holding."""
        return self.data / "notes"

    @property
    def saved(self) -> Path:
        """Changed files that were saved and that the desktop's trash could not take."""
        return self.data / "saved"

    @property
    def agreed(self) -> Path:
        """The commands of definitions that the user has allowed."""
        return self.data / "agreed.json"

    @property
    def log(self) -> Path:
        """Errors of Usufruct itself."""
        return self.data / "log"

    @property
    def reserve(self) -> Path:
        """Space for the record on a full disk."""
        return self.data / "reserve"

    @property
    def lock(self) -> Path:
        """Held by the one Usufruct that writes."""
        return self.data / "lock"
