"""Files that are no FITS, named for what they are by how they begin, with what to do about them."""

from __future__ import annotations

from pathlib import Path

_START_BYTES = 4096
_TAR_AT, _TAR = 257, b"ustar"
_TEXT_SHARE = 0.97

_PICTURE = "a picture"
_RAW = "a raw file of a photo camera"
_VIDEO = "a video"
_OTHER = "an astronomical image in another container"
_ARCHIVE = "an archive"

_HINTS = {
    _PICTURE: "its pixels were made for looking, not for measuring; let the camera write FITS",
    _RAW: "let the capture program write FITS, or convert it to FITS without any processing",
    _VIDEO: "let the capture program write its frames as FITS",
    _OTHER: "export it as FITS with its header",
    _ARCHIVE: "unpack it into the night's folder",
}

_BEGINS: tuple[tuple[bytes, str], ...] = (
    (b"\xff\xd8\xff", _PICTURE), (b"\x89PNG\r\n", _PICTURE), (b"GIF8", _PICTURE),
    (b"BM", _PICTURE), (b"8BPS", _PICTURE),
    (bytes.fromhex("46554a4946494c4d4343442d524157"), _RAW), (b"IIRO", _RAW), (b"IIRS", _RAW),
    (b"MMOR", _RAW),
    (b"IIU\0", _RAW), (b"FOVb", _RAW),
    (b"\x1aE\xdf\xa3", _VIDEO), (bytes.fromhex("4c5543414d2d5245434f52444552"), _VIDEO),
    (b"\0\0\x01\xba", _VIDEO),
    (bytes.fromhex("5849534630313030"), _OTHER), (b"\x89HDF\r\n", _OTHER), (b"#ASDF", _OTHER),
    (b"PK\x03\x04", _ARCHIVE), (b"7z\xbc\xaf'\x1c", _ARCHIVE), (b"Rar!\x1a", _ARCHIVE),
    (b"BZh", _ARCHIVE), (b"\xfd7zXZ\0", _ARCHIVE), (b"(\xb5/\xfd", _ARCHIVE),
)  # fmt: skip
_TIFF = (b"II*\0", b"MM\0*", b"II+\0", b"MM\0+")
_RAW_ENDINGS = (
    ".cr2", ".nef", ".arw", ".dng", ".orf", ".rw2", ".pef", ".srw", ".raf", ".3fr", ".iiq", ".kdc",
    ".dcr", ".mrw", ".sr2", ".nrw",
)  # fmt: skip


def what_is(path: Path) -> str:
    """What a file that is no FITS is, in words, with a hint. Raises OSError."""
    with path.open("rb") as file:
        start = file.read(_START_BYTES)
    name = _name_of(start, path.suffix.lower())
    if name in _HINTS:
        kind = f"{name} ({path.suffix.lower()})" if path.suffix else name
        return f"{kind}: {_HINTS[name]}"
    return name


def _name_of(start: bytes, ending: str) -> str:
    if not start:
        return "an empty file: copy it from the camera again"
    for begins, name in _BEGINS:
        if start.startswith(begins):
            return name
    if start.startswith(_TIFF):
        return _RAW if ending in _RAW_ENDINGS or start[8:10] == b"CR" else _PICTURE
    if start[4:8] == b"ftyp":
        if start[8:11] == b"crx":
            return _RAW
        return _PICTURE if start[8:12] in (b"heic", b"heix", b"mif1", b"avif") else _VIDEO
    if start.startswith(b"RIFF"):
        return _PICTURE if start[8:12] == b"WEBP" else _VIDEO
    if start[_TAR_AT : _TAR_AT + 5] == _TAR:
        return _ARCHIVE
    if start.startswith(b"%PDF"):
        return "a document: it takes no part"
    if _is_text(start):
        return "text: a log or notes; it takes no part"
    return "of no known kind: if it is an exposure, let the capture program write FITS"


def _is_text(start: bytes) -> bool:
    if b"\0" in start:
        return False
    text = start.decode("utf-8", errors="replace")
    plain = sum(letter.isprintable() or letter in "\r\n\t\f" for letter in text)
    return plain >= _TEXT_SHARE * len(text) and text.count("\ufffd") < 0.01 * len(text) + 2
