"""What the user asked of one or several archives."""

import json
from collections.abc import Collection, Sequence

import msgspec
from msgspec import Struct, field
from msgspec.structs import asdict, replace

from usufruct.archives.reading import Access
from usufruct.model.applications import Application, Programs
from usufruct.model.choices import Choices, OnClash


class Request(Struct, frozen=True, kw_only=True):
    """The options of one `look` or `add`."""

    applications: tuple[Application, ...]
    """Those to choose from: all, or those that were named."""
    known: tuple[Application, ...] = ()
    """All applications, where only named ones are to choose from: nothing is torn out of the others' pieces."""
    is_named: bool = False
    """The user named the applications; each of them gets what is for it."""
    to: str | None = None
    """Absolute path of a directory to place under, without an application."""
    choices: Choices = field(default_factory=Choices)
    update: str | None = None
    """The holding that the archive takes the place of, or adds to."""
    extends: bool = False
    """`update` came from the very same archive and is added to, by its own choices and these."""
    patterns: tuple[str, ...] = ()
    """What is to be added is named by these, where the choices have those of the first time too."""
    file_name: str | None = None
    """The archive's file name on record, where that decides and not the one that it has now."""
    name: str | None = None
    """What the holding is to be called."""
    takes_safe: bool = False
    """The proposed answer is taken to each question that has a safe one."""
    together: bool = False
    """Several archives make one holding."""
    is_unpacked: bool = False
    """The archive is a directory that was unpacked already."""
    password_file: str = ""
    """The file from which passwords were read; `-` is standard input."""
    origin: str = ""
    """Where the archive was downloaded from, where that is known from elsewhere."""
    conflict_is_said: bool = True
    """What becomes of files in the way was said; otherwise other holdings' files are asked about."""
    known_programs: frozenset[str] = frozenset()
    """Entries that were found to be programs when their content was read."""
    access: Access = field(default_factory=Access)
    """Passwords, encoding and limits for opening archives."""

    def each(self) -> "Sequence[Request]":
        """Return a request for each named application, or this one alone if none or one was named."""
        if not self.is_named or len(self.applications) < 2:
            return (self,)
        return [
            replace(
                self,
                applications=(application,),
                name=f"{self.name} ({application.name})" if self.name and number else self.name,
            )
            for number, application in enumerate(self.applications)
        ]

    def with_answer(self, words: Sequence[str]) -> "Request":
        """Return the request with the words of an answer, as if they were on the command line."""
        request = self
        for option, word in zip(words[::2], words[1::2], strict=True):
            choices = request.choices
            match option:
                case "--choose":
                    request = replace(request, choices=replace(choices, choose=(*choices.choose, word)))
                case "--programs":
                    request = replace(request, choices=replace(choices, programs=Programs(word)))
                case "--autostart":
                    request = replace(request, choices=replace(choices, autostart=word == "allow"))
                case "--into":
                    request = replace(request, choices=replace(choices, into=word))
                case "--app":
                    named = tuple(application for application in self.applications if application.name == word)
                    known = self.known or self.applications
                    request = replace(request, applications=named, known=known, is_named=True)
                case "--to":
                    request = replace(request, applications=(), to=word, choices=replace(choices, into=None))
                case "--update":
                    request = replace(request, update=word)
                case "--on-clash":
                    request = replace(request, choices=replace(choices, on_clash=OnClash(word)), conflict_is_said=True)
                case "--names":
                    request = replace(request, access=replace(request.access, names=word))
                case "--as":
                    request = replace(request, name=word)
                case "--password-file":
                    request = replace(request, password_file=word)
                case _:
                    raise AssertionError(f"no answer is made of {option}")
        return request

    def words(self) -> list[str]:
        """Return the options of a command for this request, including each answer that was given."""
        options: list[tuple[str, ...]] = []
        if self.update is not None and not self.extends:
            options.append(("--update", self.update))
        elif self.to is not None:
            options.append(("--to", self.to))
        elif self.is_named:
            options += (("--app", application.name) for application in self.applications)
        options += [
            *((("--as", self.name),) if self.name is not None else ()),
            *options_of(self.choices, self.access.names, is_clash_said=self.conflict_is_said),
            *((("--password-file", self.password_file),) if self.password_file else ()),
            *((("--unpacked",),) if self.is_unpacked else ()),
            *((("--rescue",),) if self.access.rescues else ()),
            *((("--together",),) if self.together else ()),
            *((("--yes",),) if self.takes_safe else ()),
        ]
        return [word for option in options for word in option]

    def choices_as_text(self) -> str:
        """The options that decide what a holding has, as JSON with sorted keys."""
        return choices_as_text(self.choices, self.access.names)

    def allows_programs(self, application: Application | None) -> bool:
        """Whether files that can run stay executable."""
        if application is None:
            return True
        return (self.choices.programs or application.programs) is Programs.ALLOW


def choices_as_text(choices: Choices, names: str | None) -> str:
    """Choices and the encoding of names as JSON with sorted keys."""
    return json.dumps({**asdict(choices), "names": names}, sort_keys=True)


def with_taken_out(text: str, entries: Collection[str], *, are_back: bool = False) -> str:
    """Return choices as text, with these entries taken out of the holding, or no longer taken out."""
    choices, names = choices_from_text(text)
    if are_back:
        out = tuple(entry for entry in choices.taken_out if entry not in entries)
    else:
        out = tuple(dict.fromkeys((*choices.taken_out, *sorted(entries))))
    return choices_as_text(replace(choices, taken_out=out), names)


def choices_from_text(text: str) -> tuple[Choices, str | None]:
    """Return the choices that `choices_as_text` wrote, and the encoding of names."""
    fields = json.loads(text)
    names = fields.pop("names", None)
    return msgspec.convert(fields, Choices), names


def options_of(choices: Choices, names: str | None, *, is_clash_said: bool = False) -> list[tuple[str, ...]]:
    """Return the options for these choices and this encoding of names, each with its value.

    `--on-clash` is among them if `is_clash_said`, or if it is not the usual.
    """
    usual = OnClash.KEEP if choices.claim else OnClash.REPLACE
    is_clash_said = choices.on_clash is not usual or (is_clash_said and not choices.claim)
    return [
        *(("--only", pattern) for pattern in choices.only),
        *(("--skip", pattern) for pattern in choices.skip),
        *((("--pick",),) if choices.picked is not None else ()),
        *((("--into", choices.into),) if choices.into else ()),
        *(("--choose", name) for name in choices.choose),
        *((("--flat",),) if choices.flat else ()),
        *((("--claim",),) if choices.claim else ()),
        *((("--nested",),) if choices.nested else ()),
        *((("--every-format",),) if choices.every_format else ()),
        *((("--programs", choices.programs.value),) if choices.programs else ()),
        *((("--on-clash", choices.on_clash.value),) if is_clash_said else ()),
        *((("--autostart", "allow"),) if choices.autostart else ()),
        *((("--skip-unsafe",),) if choices.skip_unsafe else ()),
        *((("--names", names),) if names else ()),
    ]
