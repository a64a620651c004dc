"""Places where the system, a login, a shell or a program runs or reads files by itself.

They are data, grouped by system, with the source of each group. Directories are given by components in lower case and
count wherever they are; those of the system itself only count from the top.
"""

from collections.abc import Iterable, Sequence, Set
from typing import NamedTuple


class _Habit(NamedTuple):
    whose: str
    documented: str
    directories: str = ""
    files: str = ""
    """Names of files that are read wherever a shell or a program finds them."""
    from_top: str = ""


_GROUPS = (
    _Habit(
        "desktops of freedesktop.org",
        "Desktop Application Autostart, Desktop Entry, D-Bus and Base Directory specifications",
        ".config/autostart .config/autostart-scripts .local/share/applications .local/share/dbus-1 .kde/autostart"
        " .kde4/autostart .config/plasma-workspace .local/share/kservices5 .config/lxsession .config/lxqt"
        " .local/share/nautilus-python/extensions .local/share/kio/servicemenus",
    ),
    _Habit(
        "window managers",
        "the manual page of each, section FILES",
        ".config/i3 .i3 .config/sway .config/hypr .config/openbox .config/awesome .config/bspwm .config/sxhkd"
        " .config/qtile .config/herbstluftwm .config/river .config/labwc .config/xmonad .xmonad .fluxbox .icewm .fvwm"
        " .config/niri .config/spectrwm .config/dwm .config/polybar .config/waybar .config/picom",
        ".fvwm2rc .xbindkeysrc .jwmrc .twmrc .mwmrc",
    ),
    _Habit(
        "systemd",
        "systemd.unit(5), environment.d(5), file-hierarchy(7)",
        ".config/systemd .local/share/systemd .config/environment.d .config/user-tmpfiles.d",
        from_top="usr/lib/systemd lib/systemd",
    ),
    _Habit(
        "X and logins",
        "startx(1), Xsession(5), xrdb(1), pam_env(8), rcmd(3)",
        files=".xprofile .xinitrc .xsession .xsessionrc .xserverrc .xresources .xdefaults .pam_environment .forward"
        " .rhosts .login .logout .profile",
    ),
    _Habit(
        "shells",
        "bash(1), zsh(1), fish(1), ksh(1), tcsh(1), readline(3), Microsoft's about_Profiles",
        ".config/fish/conf.d .config/fish/functions .config/fish/completions .local/share/fish/vendor_conf.d"
        " .local/share/fish/vendor_functions.d .local/share/bash-completion .config/bash_completion.d .zfunc .zsh"
        " .oh-my-zsh .config/powershell documents/powershell documents/windowspowershell",
        ".bashrc .bash_profile .bash_login .bash_logout .bash_aliases .bash_completion .zshrc .zshenv .zprofile .zlogin"
        " .zlogout .kshrc .mkshrc .cshrc .tcshrc .inputrc config.fish microsoft.powershell_profile.ps1 profile.ps1",
    ),
    _Habit(
        "directories that commands are looked for in",
        "the installation guides of the languages; what PATH names is asked of the environment besides",
        ".local/bin .cargo/bin go/bin .npm-global/bin .gem/bin .dotnet/tools .deno/bin .bun/bin",
        from_top="bin sbin usr/bin usr/sbin usr/local/bin usr/local/sbin opt/homebrew/bin",
    ),
    _Habit(
        "languages",
        "Python's site module, and the start-up file of each language's shell",
        "site-packages dist-packages .ipython/profile_default/startup .config/composer",
        "usercustomize.py sitecustomize.py .pythonrc .pythonstartup .irbrc .pryrc .rprofile .renviron .octaverc .ghci"
        " .npmrc .yarnrc .perldb",
    ),
    _Habit(
        "editors and tools",
        "vim(1), nvim(1), emacs(1), tmux(1), screen(1), lesspipe(1), git-config(1), gdb(1), curl(1), mailcap(5)",
        ".vim .config/nvim .emacs.d .config/emacs .config/git .git/hooks .config/tmux .config/direnv .config/mc",
        ".vimrc .gvimrc .exrc .nvimrc .emacs .ideavimrc .nanorc .tmux.conf .screenrc .lessfilter .lesskey .gitconfig"
        " .gdbinit .lldbinit .curlrc .wgetrc .netrc .mailcap .psqlrc .sqliterc .envrc .direnvrc .hgrc .muttrc",
    ),
    _Habit(
        "keys, sound and so on",
        "ssh_config(5), gpg(1), pulse-client.conf(5), pipewire.conf(5)",
        ".ssh .gnupg .config/pulse .config/pipewire .config/wireplumber",
    ),
    _Habit(
        "macOS",
        "Apple's launchd.plist(5), and its guides of daemons, services and application scripts",
        "library/launchagents library/launchdaemons library/startupitems library/services library/quicklook"
        ' "library/application scripts" library/scripts library/spotlight library/loginitems',
    ),
    _Habit(
        "Windows",
        "Microsoft's pages on start-up applications, autorun.inf, and the system's directories",
        '"start menu/programs/startup"',
        "autorun.inf",
        "windows/system32 windows/syswow64 windows/startmenu",
    ),
    _Habit("Unix", "hier(7), crontab(1)", from_top="etc var/spool/cron"),
)


def _words(text: str) -> list[str]:
    """Words between spaces; one that has spaces stands in quotation marks."""
    quoted = text.split('"')
    return [word for at, part in enumerate(quoted) for word in ([part] if at % 2 else part.split())]


_DIRECTORIES = frozenset(path for group in _GROUPS for path in _words(group.directories))
_FROM_TOP = frozenset(path for group in _GROUPS for path in _words(group.from_top))
_DEEPEST = max(path.count("/") + 1 for path in _DIRECTORIES | _FROM_TOP)
_FILES = frozenset(name for group in _GROUPS for name in _words(group.files))


def starts_by_itself(directory: str, searched: Set[str] = frozenset()) -> bool:
    """Whether files in an absolute directory may be run or read without anyone asking for it.

    `searched`: the absolute directories in which commands are searched for.
    """
    if directory in searched:
        return True
    parts = [part for part in directory.replace("\\", "/").lower().split("/") if part]
    if parts and parts[0].endswith(":"):
        del parts[0]
    if not _FROM_TOP.isdisjoint(_beginnings(parts)):
        return True
    return any(not _DIRECTORIES.isdisjoint(_beginnings(parts[at:])) for at in range(len(parts)))


def _beginnings(parts: Sequence[str]) -> list[str]:
    """Return the paths that a path of these components begins with, up to the depth of the deepest one known."""
    return ["/".join(parts[:end]) for end in range(1, _DEEPEST + 1)]


def self_starting_names(names: Iterable[str]) -> list[str]:
    """Return those of these file names that are read or run by themselves."""
    return [name for name in names if name.lower() in _FILES]
