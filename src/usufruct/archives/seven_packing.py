"""Writing 7z archives: solid, with names hidden too where they are locked."""

from collections.abc import Sequence
from typing import Any, BinaryIO

from usufruct.archives.packing import Changed, How, Member
from usufruct.files.looking import state_at


def pack(out: BinaryIO, members: Sequence[Member], how: How) -> None:
    """See `packing`."""
    import py7zr

    filters: list[dict[str, Any]] = (
        [{"id": py7zr.FILTER_LZMA2, "preset": how.effort}] if how.effort else [{"id": py7zr.FILTER_COPY}]
    )
    if how.password is not None:
        filters.append({"id": py7zr.FILTER_CRYPTO_AES256_SHA256})
    with py7zr.SevenZipFile(
        out, "w", filters=filters, password=how.password, header_encryption=how.password is not None
    ) as archive:
        for member in members:
            archive.write(member.path, member.entry)
            if state_at(member.path).size != member.size:
                raise Changed(member.path)
            how.tell(member.size)
