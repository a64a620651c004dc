"""The applications that Usufruct knows."""

from collections.abc import Sequence, Set
from pathlib import Path

from usufruct.actions.context import Context
from usufruct.definitions.load import SHIPPED, load_applications
from usufruct.errors import WrongUsage
from usufruct.model.applications import Application
from usufruct.planning.folder_names import folder_and_below
from usufruct.planning.names import folded, suggestion


def known_applications(context: Context) -> list[Application]:
    """Return all applications with a definition, the user's own first. They replace shipped ones of the same name.

    Applications that are not on this machine are among them. A definition with a fault is told and left out.
    """
    return load_applications(context.paths.apps, context.on_fault)


def application_of(context: Context, name: str | None) -> Application | None:
    """Return the application with exactly this name, whether it is on this machine or not; None if there is none."""
    found = load_applications(context.paths.apps, context.on_fault, named={name} if name else frozenset())
    return next((one for one in found if one.name == name), None)


def applications_here(context: Context) -> list[Application]:
    """Return those whose folder or program is on this machine: others get nothing unless they are named."""
    return load_applications(context.paths.apps, context.on_fault, only_here=True)


def roots_now(context: Context, names: Set[str]) -> dict[str, str]:
    """Return the roots of those of these applications that are on this machine."""
    found = load_applications(context.paths.apps, context.on_fault, only_here=True, named=names)
    return {one.name: one.root for one in found if one.name in names}


def application_named(applications: Sequence[Application], name: str) -> Application:
    """Return the application with this name or title; WrongUsage lists the known ones."""
    for application in applications:
        if folded(name) in (folded(application.name), folded(application.title)):
            return application
    known = [application.name for application in applications]
    raise WrongUsage(
        f"There is no application called {name}.",
        remedy=suggestion(name, known) if known else "Write a definition first; `usufruct app list` says where.",
    )


def applications_with_folder(applications: Sequence[Application], folder: str) -> list[Application]:
    """Return those with a folder of this name, the user's own before shipped ones; one, unless several were named."""
    if any(part in ("..", ".") for part in folder.replace("\\", "/").split("/")):
        raise WrongUsage(f"--into {folder} leads out of the folder.", remedy="Name a folder, and directories in it.")
    found = [application for application in applications if folder_and_below(application, folder)]
    found = [application for application in found if not application.is_shipped] or found
    if len(found) == 1 or (found and len(found) == len(applications)):
        return found
    if found:
        names = " and ".join(application.name for application in found)
        raise WrongUsage(f"{names} both have a folder {folder}.", remedy="Say which is meant with --app.")
    known = [one.name for application in applications for one in application.folders]
    near = suggestion(folder.replace("\\", "/").partition("/")[0], known)
    raise WrongUsage(
        f"No application has a folder {folder}.", remedy=f"{near} `usufruct app show NAME` lists the folders of one."
    )


def definition_file(context: Context, application: Application) -> Path:
    """Return where the definition of an application is."""
    return (SHIPPED if application.is_shipped else context.paths.apps) / f"{application.name}.toml"
