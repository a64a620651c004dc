"""RAR 5 in all its shapes: our own headers, ciphers and volumes."""

import unittest

from tests.archives.case import ArchiveCase, access, contents
from tests.archives.rar_writer import MARK, Member, RarWriter
from usufruct.errors import ArchiveError, DamagedArchive, PasswordNeeded, UnreadableArchive, WrongPassword
from usufruct.model.entries import EntryKind

FILES = {"Owl/rig.toml": b"joints = 3\n", "Owl/body.svg": bytes(range(256)) * 40, "empty": b""}
MEMBERS = [Member(name, content) for name, content in FILES.items()]


def named(volumes: list[bytes], name: str = "owls.part{}.rar") -> dict[str, bytes]:
    return {name.format(number): volume for number, volume in enumerate(volumes, 1)}


class RarTest(ArchiveCase):
    def test_a_plain_archive_with_directories_and_links(self) -> None:
        members = [*MEMBERS, Member("Owl", is_directory=True), Member("Owl/link", target="body.svg")]
        archive = self.opened(RarWriter().volumes(members)[0])
        self.assertEqual(archive.format, "rar5")
        self.assertEqual(contents(archive), FILES)
        entries = {entry.path: entry for entry in archive.listing}
        self.assertEqual(entries["Owl"].kind, EntryKind.DIRECTORY)
        self.assertEqual((entries["Owl/link"].kind, entries["Owl/link"].target), (EntryKind.LINK, "body.svg"))
        self.assertEqual(entries["Owl/rig.toml"].modified, 1_700_000_000 * 10**9)

    def test_hard_links_and_copies_have_the_content_they_name(self) -> None:
        for kind in (4, 5):
            members = [*MEMBERS, Member("again", target="Owl/body.svg", link_kind=kind)]
            self.assertEqual(contents(self.opened(RarWriter().volumes(members)[0]))["again"], FILES["Owl/body.svg"])

    def test_every_mix_of_lock_hidden_names_and_volumes_reads_alike(self) -> None:
        for hides in (False, True):
            for volume in (0, 900, 3000):
                with self.subTest(hides_names=hides, volume=volume):
                    volumes = RarWriter("moth", hides_names=hides, volume=volume).volumes(MEMBERS)
                    self.assertEqual(len(volumes) > 1, bool(volume))
                    archive = self.open(self.write(named(volumes)), access("moth"))
                    self.assertEqual(contents(archive), FILES)
                    self.assertEqual(archive.facts.hides_names, hides)
                    self.assertEqual(len(archive.facts.volumes), len(volumes))

    def test_a_wrong_password_is_told_from_damage_before_anything_is_read(self) -> None:
        for hides in (False, True):
            path = self.write(named(RarWriter("moth", hides_names=hides).volumes(MEMBERS)))
            with self.subTest(hides_names=hides), self.assertRaises(WrongPassword):
                self.open(path, access("wasp")).unlock()
            with self.subTest(hides_names=hides), self.assertRaises(PasswordNeeded):
                self.open(path).unlock()

    def test_without_the_password_the_names_are_still_listed_where_they_are_not_hidden(self) -> None:
        archive = self.open(self.write(named(RarWriter("moth").volumes(MEMBERS))))
        self.assertEqual([entry.path for entry in archive.listing], list(FILES))

    def test_a_flipped_bit_in_locked_or_split_content_is_found(self) -> None:
        for writer in (RarWriter(), RarWriter("moth"), RarWriter(volume=3000)):
            volumes = RarWriter.volumes(writer, MEMBERS)
            broken = bytearray(volumes[0])
            broken[len(broken) // 2] ^= 4
            with self.assertRaisesRegex(ArchiveError, "Owl/body"):
                contents(self.open(self.write(named([bytes(broken), *volumes[1:]])), access("moth")))

    def test_a_flipped_bit_in_a_header_is_damage(self) -> None:
        content = bytearray(RarWriter().volumes(MEMBERS)[0])
        content[content.index(b"rig.toml")] ^= 1
        with self.assertRaises(DamagedArchive):
            contents(self.opened(bytes(content)))

    def test_a_truncated_archive_names_the_entry_or_the_missing_end(self) -> None:
        content = RarWriter().volumes(MEMBERS)[0]
        with self.assertRaises(DamagedArchive):
            contents(self.opened(content[: len(content) - 300]))

    def test_a_volume_of_another_set_is_told(self) -> None:
        volumes = RarWriter(volume=3000).volumes(MEMBERS)
        foreign = RarWriter(volume=3000).volumes([Member("Bat/wing.svg", bytes(9000))])
        with self.assertRaises(DamagedArchive):
            contents(self.open(self.write(named([volumes[0], foreign[1], *volumes[2:]]))))

    def test_a_method_of_generations_to_come_is_refused_by_name(self) -> None:
        new = [Member("x", b"abc", version=2, method=3)]
        with self.assertRaisesRegex(UnreadableArchive, "newer than can be read"):
            contents(self.opened(RarWriter().volumes(new)[0]))

    def test_a_self_extracting_program_is_read_as_the_archive_it_carries(self) -> None:
        for carried in (
            RarWriter().volumes(MEMBERS)[0],
            b"x" * 99 + MARK + b"not one" + RarWriter().volumes(MEMBERS)[0],
        ):
            archive = self.opened(b"MZ" + b"program" * 999 + carried, "owls.exe")
            self.assertEqual(contents(archive), FILES)
            self.assertTrue(archive.facts.is_program)

    def test_paths_that_lead_out_are_refused(self) -> None:
        members = [Member("../up", b"x"), Member("/abs", b"x"), Member("a\\..\\..\\b", b"x"), Member("fine", b"x")]
        listing = self.opened(RarWriter().volumes(members)[0]).listing
        self.assertEqual([entry.path for entry in listing], ["fine"])
        self.assertEqual(len(listing.refused), 3)


if __name__ == "__main__":
    unittest.main()
