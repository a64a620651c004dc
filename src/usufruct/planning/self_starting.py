"""Places from which a system, a login or a shell runs or reads files by itself."""

from collections.abc import Iterable

_DIRECTORIES = tuple(
    tuple(path.split("/"))
    for path in (
        ".ssh", ".gnupg", ".config/autostart", ".config/autostart-scripts", ".config/plasma-workspace",
        ".config/systemd", ".local/share/systemd", ".config/environment.d", ".config/fish", ".config/git",
        ".config/pulse", ".local/bin", ".local/share/applications", ".local/share/dbus-1",
        ".local/share/kservices5", ".git/hooks", ".vim", ".config/nvim", ".emacs.d",
        "library/launchagents", "library/launchdaemons", "library/startupitems", "library/application scripts",
        "start menu/programs/startup", "documents/powershell", "documents/windowspowershell",
        "etc", "usr/bin", "usr/sbin", "usr/local/bin", "usr/local/sbin", "usr/lib/systemd", "lib/systemd",
        "var/spool/cron", "windows/system32", "windows/syswow64",
    )
)  # fmt: skip
"""Components of directories, in lower case. `etc` and what follows count from the top alone."""
_FROM_TOP = frozenset({"etc", "usr", "lib", "var", "windows"})
_FILES = frozenset(
    ".profile .bashrc .bash_profile .bash_login .bash_logout .bash_aliases .zshrc .zshenv .zprofile .zlogin .zlogout "
    ".kshrc .mkshrc .cshrc .tcshrc .login .logout .inputrc .xprofile .xinitrc .xsession .xsessionrc .xserverrc "
    ".pam_environment .forward .rhosts .netrc .gitconfig .vimrc .gvimrc .exrc .emacs .pythonrc .gdbinit "
    "microsoft.powershell_profile.ps1 profile.ps1 autorun.inf".split()
)
"""Names of files that are read or run by themselves wherever a shell or a program finds them."""


def starts_by_itself(directory: str) -> bool:
    """Whether what lies in a directory may be run or read without anybody asking for it; the path is absolute."""
    parts = [part for part in directory.replace("\\", "/").lower().split("/") if part]
    if parts and parts[0].endswith(":"):
        del parts[0]
    for wanted in _DIRECTORIES:
        starts = (0,) if wanted[0] in _FROM_TOP else range(len(parts))
        if any(tuple(parts[at : at + len(wanted)]) == wanted for at in starts):
            return True
    return False


def self_starting_names(names: Iterable[str]) -> list[str]:
    """Those of these file names that are read or run by themselves."""
    return [name for name in names if name.lower() in _FILES]
