"""A small model of what the user is promised: per path a stack of contents, and what is on disk."""

import copy
from dataclasses import dataclass, field

from usufruct.planning.names import free_name, spelling_key

Content = str | None
"""None: nothing is there."""


@dataclass
class Layer:
    owner: str | None
    """A holding's name; None: the user's own."""
    content: Content


@dataclass
class Model:
    """What disk and ledger should hold after each step."""

    disk: dict[str, str]
    stacks: dict[str, list[Layer]] = field(default_factory=dict)

    def copy(self) -> "Model":
        return copy.deepcopy(self)

    def paths_of(self, holding: str) -> list[str]:
        return sorted(path for path, stack in self.stacks.items() if any(layer.owner == holding for layer in stack))

    def holdings(self) -> set[str]:
        return {layer.owner for stack in self.stacks.values() for layer in stack if layer.owner}

    # --- what a user or another program does --------------------------------------------------------------

    def edit(self, path: str, content: Content) -> None:
        if content is None:
            self.disk.pop(path, None)
        else:
            self.disk[path] = content

    # --- what Usufruct does -------------------------------------------------------------------------------

    def add(self, holding: str, files: dict[str, str]) -> None:
        for path, content in files.items():
            self._lay(holding, path, content)

    def _lay(self, holding: str, path: str, content: str) -> None:
        stack = self.stacks.setdefault(path, [])
        there = self.disk.get(path)
        if (stack and stack[-1].content != there) or (not stack and there is not None):
            stack.append(Layer(None, there))
        stack.append(Layer(holding, content))
        self.disk[path] = content

    def remove(self, holding: str) -> bool:
        """Take a holding out; whether all of it went."""
        left = [path for path in self.paths_of(holding) if not self._take(holding, path)]
        self._settle()
        return not left

    def is_users(self, holding: str, path: str) -> bool:
        """The user changed the holding's file, and it is not gone."""
        stack = self.stacks[path]
        index = next(number for number, layer in enumerate(stack) if layer.owner == holding)
        above = stack[index + 1 :]
        if above:
            return above[0].owner is None and above[0].content is not None
        there = self.disk.get(path)
        return there is not None and there != stack[index].content

    def _take(self, holding: str, path: str) -> bool:
        if self.is_users(holding, path):
            return False
        stack = self.stacks[path]
        index = next(number for number, layer in enumerate(stack) if layer.owner == holding)
        if stack[index + 1 :]:
            del stack[index : index + 2 if stack[index + 1].owner is None else index + 1]
            return True
        del stack[index]
        self.edit(path, stack[-1].content if stack else None)
        return True

    def update(self, holding: str, files: dict[str, str]) -> None:
        old = self.paths_of(holding)
        beside = {}
        for path in sorted(files):
            if path in old and self.is_users(holding, path):
                beside[path] = files[path]
            elif path in old:
                self._renew(holding, path, files[path])
        for path in old:
            if path not in files:
                self._take(holding, path)
        for path, content in files.items():
            if path not in old:
                self._lay(holding, path, content)
        for path, content in beside.items():
            self._lay(holding, self._free(path, files), content)
        self._settle()

    def _renew(self, holding: str, path: str, content: str) -> None:
        stack = self.stacks[path]
        index = next(number for number, layer in enumerate(stack) if layer.owner == holding)
        is_top = index == len(stack) - 1
        stack[index].content = content
        if is_top:
            self.disk[path] = content

    def _free(self, path: str, files: dict[str, str]) -> str:
        above, _, name = path.rpartition("/")
        everything = {*self.disk, *(path for path, stack in self.stacks.items() if stack), *files}
        taken = {spelling_key(other.rpartition("/")[2]) for other in everything if other.rpartition("/")[0] == above}
        return f"{above}/{free_name(name, taken)}"

    def lay_back(self, holding: str, path: str) -> None:
        """Forget that the user deleted a file of a holding: it went and came back beneath what covers it."""
        stack = self.stacks[path]
        above = next(number for number, layer in enumerate(stack) if layer.owner == holding) + 1
        if above < len(stack) and (stack[above].owner, stack[above].content) == (None, None):
            del stack[above]

    def repair(self, holding: str) -> None:
        for path in self.paths_of(holding):
            stack = self.stacks[path]
            if stack[-1].owner == holding and path not in self.disk:
                assert stack[-1].content is not None
                self.disk[path] = stack[-1].content

    def _settle(self) -> None:
        """The user's own layers that no holding covers are simply what is on disk."""
        for path, stack in list(self.stacks.items()):
            while stack and stack[-1].owner is None:
                stack.pop()
            if not any(layer.owner for layer in stack):
                del self.stacks[path]
