"""Make the sample archives that ship with Usufruct, the same bytes each time.

    python tools/make_samples.py [DIRECTORY]

Everything in them is invented here: the shadow-theatre program Lanternbox, the weaving program Weftline and the
tide-table program Tidebook do not exist. The default directory is the one the package ships.
"""

import bz2
import gzip
import io
import lzma
import math
import struct
import sys
import tarfile
import zipfile
import zlib
from pathlib import Path

from usufruct.archives.streams.zstd import zstd

HERE = Path(__file__).resolve().parent
DOWNLOADS = HERE.parent / "src" / "usufruct" / "samples" / "downloads"
MADE = (2026, 3, 14, 15, 9, 26)
"""Time of every entry; zip keeps it as local time."""
MADE_UTC = 1_773_500_966
Files = dict[str, bytes]


def png(width: int, height: int, shade: "object") -> bytes:
    """A small grey-scale picture; `shade(x, y)` gives 0 to 255."""
    rows = b"".join(b"\0" + bytes(int(shade(x, y)) & 255 for x in range(width)) for y in range(height))  # type: ignore[operator]

    def chunk(kind: bytes, body: bytes) -> bytes:
        return struct.pack(">I", len(body)) + kind + body + struct.pack(">I", zlib.crc32(kind + body))

    header = struct.pack(">IIBBBBB", width, height, 8, 0, 0, 0, 0)
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", header) + chunk(b"IDAT", zlib.compress(rows, 9)) + chunk(b"IEND", b"")


def forest(seed: int) -> bytes:
    """Tree trunks against a sky that grows dark towards the top."""

    def shade(x: int, y: int) -> float:
        trunk = math.sin(x * (0.35 + seed * 0.07) + seed) + 0.3 * math.sin(x * 1.7 + y * 0.05)
        return 20 if trunk > 0.75 else 90 + y * 1.5 + 12 * math.sin(x * 0.1 + seed)

    return png(96, 60, shade)


def puppet(name: str, parts: int) -> Files:
    """A puppet of the shadow theatre: a rig and the outlines of its parts."""
    rig = f'[puppet]\nname = "{name}"\nscale = 1.0\n\n'
    files: Files = {}
    for number in range(parts):
        part = ["body", "head", "left-wing", "right-wing", "tail", "talons"][number]
        rig += f'[[part]]\nfile = "parts/{part}.svg"\npivot = [{number * 7}, {number * 5}]\nrods = {number % 2 + 1}\n\n'
        points = " ".join(
            f"{50 + 40 * math.cos(a / 9):.1f},{50 + (30 + number) * math.sin(a / 7):.1f}" for a in range(60)
        )
        files[f"parts/{part}.svg"] = (
            f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 100 100"><polygon points="{points}"/></svg>\n'
        ).encode()
    return {"rig.toml": rig.encode(), **files}


def gel(name: str, red: int, green: int, blue: int) -> bytes:
    """A colour filter in Lanternbox's own format."""
    return f"gel 1\nname {name}\nrgb {red} {green} {blue}\ntransmission {(red + green + blue) / 765:.2f}\n".encode()


def gel_table(red: int, green: int, blue: int) -> bytes:
    """The same filter as a table of wavelengths."""
    lines = ["wavelength,transmission"]
    for wavelength in range(400, 701, 10):
        peak = (blue, 450), (green, 540), (red, 620)
        value = max(part / 255 * math.exp(-(((wavelength - centre) / 60) ** 2)) for part, centre in peak)
        lines.append(f"{wavelength},{value:.3f}")
    return ("\n".join(lines) + "\n").encode()


GELS = {
    "dusk-amber": (230, 140, 60),
    "dusk-rose": (210, 90, 110),
    "dusk-violet": (110, 70, 160),
    "moon": (150, 170, 210),
}


def below(directory: str, files: Files) -> Files:
    """The same files inside a directory."""
    return {f"{directory}/{name}": content for name, content in files.items()}


def zip_of(files: Files, *, programs: frozenset[str] = frozenset()) -> bytes:
    """A zip of these files, in this order."""
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED, compresslevel=9) as archive:
        for name, content in files.items():
            info = zipfile.ZipInfo(name, MADE)
            info.create_system = 3
            info.external_attr = (0o100755 if name in programs else 0o100644) << 16
            info.compress_type = zipfile.ZIP_DEFLATED
            archive.writestr(info, content)
    return buffer.getvalue()


def with_old_names(files: Files) -> bytes:
    """A zip as old packers wrote it: names in the code page of their machine, and nothing that says which."""
    plain = {f"{number:0{len(name)}}": content for number, (name, content) in enumerate(files.items())}
    packed = zip_of(plain)
    for short, name in zip(plain, files, strict=True):
        packed = packed.replace(short.encode(), name.encode("cp866"))
    return packed


def cut_in(content: bytes, parts: int) -> list[bytes]:
    """The bytes in so many parts, all but the last of one size."""
    size = -(-len(content) // parts)
    return [content[at : at + size] for at in range(0, len(content), size)]


def tar_of(files: Files) -> bytes:
    """A tar of these files, in this order."""
    buffer = io.BytesIO()
    with tarfile.open(fileobj=buffer, mode="w", format=tarfile.PAX_FORMAT) as archive:
        for name, content in files.items():
            info = tarfile.TarInfo(name)
            info.size, info.mtime, info.mode = len(content), MADE_UTC, 0o644
            archive.addfile(info, io.BytesIO(content))
    return buffer.getvalue()


def samples() -> dict[str, bytes]:
    """File name → bytes of every sample archive."""
    owls = below("Owl", puppet("Owl", 6)) | below("Owlet", puppet("Owlet", 4))
    owls["read me first.txt"] = (
        b"The owl family\n\nTwo puppets for Lanternbox 3 and later.\nMake the rods a hand longer.\n"
    )
    owls["preview.png"] = forest(1)
    wrapped = below("download_8841/Owl Family (final)", owls)
    wrapped |= {"__MACOSX/download_8841/._Owl": b"\0\5\x16\7" * 20, "download_8841/.DS_Store": b"\0\0\0\1Bud1" * 40}

    dusk: Files = {}
    for name in ("dusk-amber", "dusk-rose", "dusk-violet"):
        dusk[f"dusk gels/lanternbox/{name}.gel"] = gel(name, *GELS[name])
        dusk[f"dusk gels/spreadsheet/{name}.csv"] = gel_table(*GELS[name])
    dusk["dusk gels/LICENSE"] = b"You may use these gels in any play, for money or for love.\n"
    dusk["dusk gels/swatch.xcf"] = b"gimp xcf " + bytes(range(256))

    backdrops = {
        f"Backdrops/Forest/{name}.png": forest(seed) for seed, name in enumerate(["clearing", "edge", "path"], 2)
    }
    backdrops["Backdrops/Forest/notes.bak"] = b"do not ship this\n"
    backdrops["credits.txt"] = b"Drawn by candle light.\n"

    moon: Files = {}
    for variant, factor in (("bright", 1.0), ("dim", 0.6)):
        moon[f"moon/{variant}/moon.gel"] = gel("moon", *(int(part * factor) for part in GELS["moon"]))
        moon[f"moon/{variant}/halo.gel"] = gel("halo", *(int(part * factor * 0.9) for part in GELS["moon"]))

    drafts: Files = {}
    for name in ("herringbone", "bird's eye", "rosepath"):
        lines = "\n".join(" ".join(str((x * 3 + y * len(name)) % 4 + 1) for x in range(16)) for y in range(16))
        drafts[f"weaves/twill/{name}.weft"] = f"weft 1\nshafts 4\n{lines}\n".encode()
        drafts[f"weaves/twill/{name}.wif"] = f"[WIF]\nVersion=1.1\n[THREADING]\n{lines}\n".encode()
    drafts["threads/linen 16-2.yarn"] = b"yarn 1\nfibre linen\ncount 16/2\n"
    loom = {"data/loom.toml": b'[loom]\nname = "Counterbalance"\nshafts = 4\n', "pictures/side.png": forest(9)}
    drafts |= below("Counterbalance loom", loom)

    tides: Files = {}
    for harbour in ("Port Hale", "Sandness", "Grey Quay"):
        table = "\n".join(
            f"{hour:02d}:00 {2.4 + 1.9 * math.sin(hour / 1.97 + len(harbour)):.2f} m" for hour in range(24)
        )
        tides[f"tide pack/content/Harbours/{harbour}.tide"] = f"tide 1\n{table}\n".encode()
    tides["tide pack/content/faces/brass.face"] = b"face 1\ndial brass\nhands blued\n"
    tides["tide pack/install.txt"] = b"Copy the folders in content to your Tidebook folder.\n"

    sneaky = {"gels/plain.gel": gel("plain", 200, 200, 200), "../../outside.gel": gel("outside", 1, 2, 3)}

    installer = {"Gels/evening.gel": gel("evening", 120, 90, 60), "Gels/setup.exe": b"MZ" + bytes(64)}

    night = zip_of(below("Backdrops/Night", {"stars.png": forest(6), "moonrise.png": forest(7)}))
    season = {
        "Winter season/Barn Owl v2.zip": zip_of(puppet("Barn Owl", 3)),
        "Winter season/gels.zip": zip_of({"frost.gel": gel("frost", 190, 210, 230)}),
        "Winter season/readme.txt": b"Unpack both, then copy them where they belong.\n",
    }
    return {
        **{f"night-sky.zip.{n + 1:03}": part for n, part in enumerate(cut_in(night, 4)) if n != 2},
        "old-harbours.zip": with_old_names(
            {
                "Harbours/Ночная гавань.tide": b"tide 1\n00:00 1.20 m\n",
                "Harbours/Северный маяк.tide": b"tide 1\n00:00 2.10 m\n",
            }
        ),
        "winter-season.zip": zip_of(season),
        "owl-family-v1.2.zip": zip_of(wrapped),
        "dusk-gels.tar.gz": gzip.compress(tar_of(dusk), 9, mtime=0),
        "forest-backdrops.zip": zip_of(backdrops),
        "moon-gels.zip": zip_of(moon),
        "herringbone-and-more.tar.xz": lzma.compress(tar_of(drafts), preset=6),
        "tide-pack-2026-03.tar.bz2": bz2.compress(tar_of(tides), 9),
        "evening-gels.zip": zip_of(installer, programs=frozenset({"Gels/setup.exe"})),
        "plain-gels.tar.zst": zstd.compress(tar_of({"plain.gel": gel("plain", 1, 1, 1)}), 19),
        "sneaky-gels.zip": zip_of(sneaky),
        "half-a-download.zip": zip_of(owls)[:4000],
    }


def main() -> None:
    """Write the samples, and nothing else, into the directory."""
    directory = Path(sys.argv[1]) if len(sys.argv) > 1 else DOWNLOADS
    directory.mkdir(parents=True, exist_ok=True)
    made = samples()
    for stale in {path.name for path in directory.iterdir()} - set(made):
        (directory / stale).unlink()
    for name, content in made.items():
        (directory / name).write_bytes(content)
    print(f"{len(made)} archives, {sum(map(len, made.values())):,} bytes in {directory}")


if __name__ == "__main__":
    main()
