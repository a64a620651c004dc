"""The algebra of layers: laying on and taking out, in every order."""

import itertools
import unittest

from usufruct.model.plan import Detach, Leave
from usufruct.model.records import ABSENT, FileKind, FileState, Layer
from usufruct.planning.stacks import laid_on, out_of, renewal


def file(content: str, inode: int = 0) -> FileState:
    return FileState(FileKind.FILE, len(content), 1, 0o644, inode, content.encode())


def lay(stack: tuple[Layer, ...], disk: FileState, holding: int, content: str) -> tuple[Layer, ...]:
    laid = laid_on(stack, disk, holding, file(content), "entry")
    return (*stack, *laid.layers)


class LayingTest(unittest.TestCase):
    def test_on_nothing_it_is_the_only_layer(self) -> None:
        laid = laid_on((), ABSENT, 1, file("a"), "entry")
        self.assertEqual([(layer.level, layer.holding) for layer in laid.layers], [(1, 1)])
        self.assertFalse(laid.backs_up)

    def test_the_users_file_becomes_the_original_and_is_backed_up(self) -> None:
        laid = laid_on((), file("mine"), 1, file("a"), "entry")
        original, mine = laid.layers
        self.assertEqual((original.level, original.holding, original.is_backed), (0, None, True))
        self.assertEqual((mine.level, mine.holding), (1, 1))

    def test_the_same_content_is_shared_and_the_users_own_is_backed_up_all_the_same(self) -> None:
        laid = laid_on((), file("a", inode=7), 1, file("a", inode=9), "entry")
        self.assertTrue(laid.is_shared)
        self.assertTrue(laid.backs_up, "whoever deletes the file that both share must not take the user's with it")
        self.assertEqual(laid.layers[-1].state.inode, 7, "the file on disk stays the one it was")

    def test_a_holding_replaced_by_another_is_covered(self) -> None:
        stack = lay((), ABSENT, 1, "a")
        laid = laid_on(stack, file("a"), 2, file("b"), "entry")
        self.assertEqual(laid.covered, (1,))

    def test_what_the_user_made_of_a_file_becomes_a_layer_of_their_own(self) -> None:
        stack = lay((), ABSENT, 1, "a")
        own, mine = laid_on(stack, file("edited"), 2, file("b"), "entry").layers
        self.assertEqual((own.level, own.holding, own.is_backed), (2, None, True))
        self.assertEqual((mine.level, mine.holding), (3, 2))

    def test_a_file_the_user_deleted_is_told_as_absent(self) -> None:
        stack = lay((), ABSENT, 1, "a")
        own, _ = laid_on(stack, ABSENT, 2, file("b"), "entry").layers
        self.assertEqual((own.state.kind, own.is_backed), (FileKind.ABSENT, False))


class TakingOutTest(unittest.TestCase):
    def test_the_top_gives_back_what_is_beneath(self) -> None:
        stack = lay(lay((), file("mine"), 1, "a"), file("a"), 2, "b")
        step = out_of(stack, 2, 5, "x", file("b"))
        assert isinstance(step, Detach) and step.gives_back
        self.assertEqual((step.gives_back.holding, step.changes_disk), (1, True))

    def test_from_the_middle_nothing_changes_on_disk(self) -> None:
        stack = lay(lay((), file("mine"), 1, "a"), file("a"), 2, "b")
        step = out_of(stack, 1, 5, "x", file("b"))
        assert isinstance(step, Detach)
        self.assertFalse(step.changes_disk)

    def test_a_changed_file_is_left(self) -> None:
        self.assertIsInstance(out_of(lay((), ABSENT, 1, "a"), 1, 5, "x", file("edited")), Leave)

    def test_a_touched_file_of_the_same_content_is_not_changed(self) -> None:
        self.assertIsInstance(out_of(lay((), ABSENT, 1, "a"), 1, 5, "x", file("a", inode=99)), Detach)

    def test_a_deleted_file_counts_as_placed_and_gives_back_what_was_beneath(self) -> None:
        step = out_of(lay((), file("mine"), 1, "a"), 1, 5, "x", ABSENT)
        assert isinstance(step, Detach) and step.gives_back
        self.assertEqual(step.gives_back.state.digest, b"mine")
        alone = out_of(lay((), ABSENT, 1, "a"), 1, 5, "x", ABSENT)
        assert isinstance(alone, Detach)
        self.assertFalse(alone.changes_disk, "there is nothing to take away")

    def test_a_file_edited_and_then_replaced_holds_its_holding_in_the_list(self) -> None:
        stack = lay(lay((), ABSENT, 1, "a"), file("edited"), 2, "b")
        self.assertIsInstance(out_of(stack, 1, 5, "x", file("b")), Leave)

    def test_whatever_the_order_of_removal_the_original_is_last(self) -> None:
        for order in itertools.permutations((1, 2, 3)):
            with self.subTest(order=order):
                stack, disk = (), file("mine")
                for holding, content in ((1, "a"), (2, "b"), (3, "a")):
                    stack, disk = lay(stack, disk, holding, content), file(content)
                for holding in order:
                    step = out_of(stack, holding, 5, "x", disk)
                    assert isinstance(step, Detach)
                    stack = tuple(layer for layer in stack if layer.level not in step.levels)
                    if step.changes_disk:
                        disk = step.gives_back.state if step.gives_back else ABSENT
                self.assertEqual(disk.digest, b"mine")


class RenewingTest(unittest.TestCase):
    STACK = lay(lay((), file("mine"), 1, "a"), file("a"), 2, "b")

    def test_on_top_the_file_on_disk_is_replaced(self) -> None:
        renewed = renewal(self.STACK, 2, file("b"), 9, file("new"), "entry")
        self.assertEqual((renewed.layer.level, renewed.layer.holding, renewed.layer.is_backed), (2, 9, False))
        self.assertTrue(renewed.is_on_top and not renewed.is_same and renewed.documented is None)

    def test_beneath_another_the_new_bytes_go_to_the_backups(self) -> None:
        renewed = renewal(self.STACK, 1, file("b"), 9, file("new"), "entry")
        self.assertEqual((renewed.layer.level, renewed.layer.is_backed, renewed.is_on_top), (1, True, False))

    def test_a_deletion_is_told_and_the_file_comes_back(self) -> None:
        renewed = renewal(self.STACK, 2, ABSENT, 9, file("b"), "entry")
        assert renewed.documented
        self.assertEqual((renewed.documented.level, renewed.documented.state.kind), (3, FileKind.ABSENT))
        self.assertFalse(renewed.is_same)

    def test_the_same_content_changes_nothing_but_the_owner(self) -> None:
        renewed = renewal(self.STACK, 2, file("b"), 9, file("b"), "new entry")
        self.assertEqual((renewed.is_same, renewed.layer.holding, renewed.layer.entry), (True, 9, "new entry"))


if __name__ == "__main__":
    unittest.main()
