"""File types that very many programs use. They say little about which application an archive is for."""

MEDIA = frozenset(
    # Pictures.
    "png jpg jpeg gif bmp tif tiff webp avif heic svg ico psd xcf tga "
    # Sound and video.
    "wav mp3 ogg oga opus flac aac m4a wma aif aiff mid midi mp4 m4v mkv webm avi mov wmv ogv mpg mpeg".split()
)
EVERYDAY = MEDIA.union(
    # Texts and documents.
    "txt text md markdown rst rtf pdf doc docx odt ods odp xls xlsx ppt pptx epub tex log nfo diz "
    # Web and data.
    "htm html xhtml css xml json yaml yml toml ini cfg conf csv tsv dat url webloc "
    # Archives.
    "zip 7z rar tar gz tgz bz2 tbz2 xz txz zst tzst lz4 lzma lz z cab iso lha lzh arj zoo arc".split()
)
"""Suffixes in lower case, without the dot."""

VIEWED = frozenset(
    "png jpg jpeg gif bmp tif tiff webp avif heic ico "
    "wav mp3 ogg oga opus flac aac m4a wma aif aiff mid midi mp4 m4v mkv webm avi mov wmv ogv mpg mpeg "
    "txt text md markdown rst nfo diz log rtf pdf odt ods odp docx xlsx pptx epub".split()
)
"""Suffixes of pictures, sound, video, texts and documents that nothing in is run when they are opened."""


def suffix_of(name: str) -> str:
    """A file name's suffix in lower case without the dot; empty where it has none."""
    dot = name.rfind(".", 1)
    return name[dot + 1 :].lower() if dot > 0 else ""
