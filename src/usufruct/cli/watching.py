"""Announce downloads when they are complete."""

import contextlib
import html
import shutil
import subprocess
import time
from pathlib import Path
from typing import Any

from usufruct.actions.arrivals import NEW, NEWER, folders_of
from usufruct.actions.context import Context
from usufruct.actions.downloads import Waiting, waiting
from usufruct.cli.questions import is_asking
from usufruct.cli.screen import confirmed, echo, path_words, shell_words
from usufruct.cli.waiting import lines_of
from usufruct.files.printable import printable

_QUIET = 1.5
"""Seconds without a write after which a file counts as finished."""


def watch(context: Context, *, notifies: bool = False) -> None:
    """Announce each download when it is complete, and offer to add it; ends with Ctrl-C.

    With `notifies` the desktop shows it too, if it has the usual program for that.
    """
    # Imported here: nothing else waits for files.
    from watchdog.events import FileSystemEvent, FileSystemEventHandler
    from watchdog.observers import Observer

    touched: dict[str, float] = {}

    class Handler(FileSystemEventHandler):
        """Notes what was written, by anyone."""

        def on_any_event(self, event: FileSystemEvent) -> None:
            path = str(event.dest_path or event.src_path)
            if not event.is_directory and event.event_type in ("created", "modified", "moved", "closed"):
                touched[path] = time.monotonic()

    observer: Any = Observer()
    folders = [folder for folder in folders_of(context) if folder.is_dir()]
    for folder in folders:
        observer.schedule(Handler(), str(folder))
    observer.start()
    echo(f"Watching {', '.join(path_words(str(folder)) for folder in folders)}; Ctrl-C ends it.")
    try:
        while True:
            time.sleep(0.2)
            quiet = [path for path, when in list(touched.items()) if time.monotonic() - when > _QUIET]
            for path in quiet:
                touched.pop(path)
                if Path(path).is_file():
                    _tell(context, path, notifies=notifies)
    except KeyboardInterrupt:
        return
    finally:
        observer.stop()
        observer.join()


def _notify(one: Waiting) -> None:
    program = shutil.which("notify-send")
    if not program or one.state not in (NEW, NEWER):
        return
    name = Path(one.path).name
    # Notifications interpret markup in their text.
    words = html.escape(shell_words(["usufruct", "add", one.path]), quote=False)
    with contextlib.suppress(OSError, subprocess.SubprocessError):
        subprocess.run(
            [program, "--app-name=Usufruct", "--", printable(name), printable(words)], check=False, timeout=10
        )


def _tell(context: Context, path: str, *, notifies: bool) -> None:
    for one in waiting(context, find=Path(path).name):
        if one.path != path:
            continue
        for line in lines_of([one]):
            echo(line)
        if notifies:
            _notify(one)
        if one.state in (NEW, NEWER) and is_asking() and confirmed("  Add it?", default=False):
            from usufruct.cli.commands.add import add_within

            add_within([Path(path)])
