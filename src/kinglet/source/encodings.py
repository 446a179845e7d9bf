"""Bytes to text: which encoding a log is in, how that is known, and its text as UTF-8.

All that follows works on UTF-8. A log in UTF-8 is passed on as it is; another is recoded as it is
read. What an encoding has no character for becomes U+FFFD and is never fatal.
"""

from __future__ import annotations

import codecs
import re
from collections.abc import Iterator
from typing import NamedTuple

from kinglet.errors import InputError, UsageError, did_you_mean
from kinglet.source.pauses import Chunk, Pause

HEAD_BYTES = 64 * 1024
"""How much is looked at to tell the encoding: from the start, and from the first byte that is not ASCII."""

_BOMS = (
    (codecs.BOM_UTF8, "utf-8", 0),
    (codecs.BOM_UTF32_LE, "utf-32-le", 4),
    (codecs.BOM_UTF32_BE, "utf-32-be", 4),
    (codecs.BOM_UTF16_LE, "utf-16-le", 2),
    (codecs.BOM_UTF16_BE, "utf-16-be", 2),
)
_KNOWN = ("utf-8", "utf-16", "utf-16-le", "utf-16-be", "cp1252", "latin-1", "cp437", "shift_jis", "gb18030", "koi8-r")
# Patterns are compiled when first used: most logs are ASCII.
_MULTIBYTE = rb"[\xc2-\xdf][\x80-\xbf]|[\xe0-\xef][\x80-\xbf]{2}|[\xf0-\xf4][\x80-\xbf]{3}"
_HIGH = rb"[\x80-\xff]+"
_FIRST = rb"[\xc2-\xf4]"
# What cp1252 text has beyond ASCII: letters beside ASCII letters, and common signs wherever they stand.
_WESTERN = (
    rb"(?<=[A-Za-z])[\x8a\x8c\x8e\x9a\x9c\x9e\x9f\xc0-\xd6\xd8-\xf6\xf8-\xff]{1,3}"
    rb"|[\x8a\x8c\x8e\x9a\x9c\x9e\x9f\xc0-\xd6\xd8-\xf6\xf8-\xff]{1,3}(?=[A-Za-z])"
    rb"|(?<![\x80-\xff])[\xc0\xc8\xc9\xe0\xe1\xe8-\xea\xec\xed\xf2\xf3\xf9\xfa](?![\x80-\xff])"  # words of one letter
    rb"|[\x80\x85\x91-\x97\xa0\xa3\xa7\xab\xb0\xb1\xb2\xb3\xb4\xb5\xb7\xbb]"
)


class Encoding(NamedTuple):
    """An encoding as Python names it, and how it is known.

    bom: bytes of the mark at the start. width: bytes of a code unit where all have the same
    number, 0 for UTF-8, -1 for encodings whose characters differ in length.
    """

    name: str
    evidence: str
    bom: int = 0
    width: int = 0


def named(name: str, head: bytes = b"") -> Encoding:
    """The encoding that a person names; a mark at the start of the log is not part of its text.

    Raises:
        UsageError: no such encoding.
    """
    wanted = name.lower().replace("_", "-")
    try:
        found = codecs.lookup(name).name
        "".encode(found)
    except (LookupError, ValueError):
        hint = did_you_mean(name, _KNOWN, "known are " + ", ".join(_KNOWN) + " and others that Python knows")
        raise UsageError(f"no such encoding `{name}`", hint) from None
    evidence = "as the parser or the call says"
    for mark, marked, width in _BOMS:
        if head.startswith(mark) and found in (marked, marked.rpartition("-")[0], "utf-8-sig"):
            return Encoding(marked, evidence, len(mark), width)
    if wanted in ("utf-16", "utf-32"):  # without a mark: big-endian unless the zeros say otherwise (RFC 2781)
        guessed = _by_zeros(head)
        found = guessed.name if guessed and guessed.name.startswith(wanted) else f"{wanted}-be"
    if found in ("utf-8", "utf-8-sig", "ascii"):
        return Encoding("utf-8", evidence)
    widths = {"utf-16-le": 2, "utf-16-be": 2, "utf-32-le": 4, "utf-32-be": 4}
    return Encoding(found, evidence, width=widths.get(found) or (1 if _single_byte(found) else -1))


def _single_byte(name: str) -> bool:
    """Whether every byte is a character by itself."""
    try:
        return len(bytes(range(256)).decode(name, "replace")) == 256
    except (LookupError, UnicodeError):
        return False


def from_start(head: bytes) -> Encoding | None:
    """The encoding where the first bytes tell it: by a mark, or by where their zeros stand."""
    for mark, name, width in _BOMS:
        if head.startswith(mark):
            return Encoding(name, f"byte order mark {mark.hex(' ').upper()}", len(mark), width)
    return _by_zeros(head)


def _by_zeros(head: bytes) -> Encoding | None:
    """UTF-16 without a mark: of its ASCII characters one byte in two is zero."""
    size = len(head) // 2
    if size < 4:
        return None
    even, odd = head[0 : 2 * size : 2].count(0), head[1 : 2 * size : 2].count(0)
    for name, zeros, others in (("utf-16-le", odd, even), ("utf-16-be", even, odd)):
        feed = b"\n\0" if name.endswith("le") else b"\0\n"
        feeds = head.count(b"\n")
        # text of other alphabets has fewer zeros, and its line ends tell which byte comes first
        if zeros >= 0.3 * size and others <= 0.02 * size and head.count(feed) >= 0.98 * feeds:
            where = "second" if name.endswith("le") else "first"
            return Encoding(
                name, f"{100 * zeros / size:.0f} % of each {where} byte of two is zero; no byte order mark", width=2
            )
    return None


def from_high_bytes(window: bytes) -> Encoding:
    """UTF-8 or cp1252, from a stretch that begins with the first byte that is not ASCII."""
    try:
        window.decode("utf-8")
    except UnicodeDecodeError:
        return _from_damaged(window)
    return _utf_8(len(re.findall(_FIRST, window)))


def _from_damaged(window: bytes) -> Encoding:
    broken = re.sub(_MULTIBYTE, b"", window)
    # the stretch may end within a character, which is no sign against UTF-8
    if len(window) >= HEAD_BYTES:
        broken = broken[:-4] + re.sub(rb"[\xc2-\xf4][\x80-\xbf]{0,2}\Z", b"", broken[-4:])  # cut by the stretch's end
    good = len(re.findall(_MULTIBYTE, window))
    bad = sum(map(len, re.findall(_HIGH, broken)))
    if not bad:
        return _utf_8(good)
    high = sum(map(len, re.findall(_HIGH, window)))
    western = sum(map(len, re.findall(_WESTERN, window)))
    # one letter in four may be of another alphabet before it is none of the West
    if good < bad and western >= 0.75 * high:
        plain = not re.search(rb"[\x80-\x9f]", window)
        return Encoding(
            "cp1252",
            f"{_count(high, 'byte')} above 7F that are not UTF-8 and read as Western letters and signs"
            + ("; none of 80-9F, so Latin-1 reads the same" if plain else ""),
            width=1,
        )
    return Encoding("utf-8", f"{_count(good, 'multi-byte character')}, but {_count(bad, 'invalid byte')} among them")


def _utf_8(characters: int) -> Encoding:
    what = _count(characters, "multi-byte character")
    return Encoding("utf-8", f"{what} and no invalid byte in the stretch looked at")


def _count(number: int, what: str) -> str:
    return f"{number:,} {what}{'' if number == 1 else 's'}"


ASCII = Encoding("utf-8", "nothing but ASCII, which UTF-8 includes")


class Decoded:
    """The text of a log as UTF-8, in chunks; `encoding` is what it was found to be, so far."""

    def __init__(self, chunks: Iterator[Chunk], encoding: Encoding | None) -> None:
        self.chunks = chunks
        self.encoding = encoding or ASCII
        self.decided = encoding is not None

    def __iter__(self) -> Iterator[Chunk]:
        skip = self.encoding.bom
        window = b""
        decoder = self._decoder()
        for chunk in self.chunks:
            if isinstance(chunk, Pause):
                if window:  # no more is there for now: decide by what there is
                    yield self._decide(window)
                    window, decoder = b"", self._decoder()
                yield chunk
                continue
            if skip:
                skip, chunk = max(skip - len(chunk), 0), chunk[skip:]
            # ASCII is the same in all of these: nothing is decided before a byte that is none
            if not self.decided:
                window += chunk
                if window.isascii():
                    yield window
                    window = b""
                    continue
                first = first_high(window)
                # more to judge by makes a better guess
                if len(window) - first < HEAD_BYTES:
                    continue
                chunk, window = self._decide(window, done=False), b""
                decoder = self._decoder()
            yield decoder.decode(chunk).encode() if decoder else chunk
        if window:
            yield self._decide(window)
        elif decoder and (rest := decoder.decode(b"", True)):
            yield rest.encode()

    def _decide(self, window: bytes, done: bool = True) -> bytes:
        first = first_high(window)
        self.encoding = from_high_bytes(window[first : first + HEAD_BYTES])
        self.decided = True
        if done and self.encoding.width:
            return window.decode(self.encoding.name, "replace").encode()
        return window

    def _decoder(self) -> codecs.IncrementalDecoder | None:
        if not self.encoding.width:
            return None
        return codecs.getincrementaldecoder(self.encoding.name)("replace")


def first_high(data: bytes) -> int:
    found = re.search(_HIGH, data)
    return found.start() if found else len(data)


def refuse_binary(head: bytes, name: str) -> None:
    """
    Raises:
        InputError: what begins like this is no text in any encoding.
    """  # fmt: skip
    for magic, at, what, advice in (
        (b"PK\x03\x04", 0, "a ZIP archive", "unpack it first: unzip"),
        (b"ustar", 257, "a tar archive", "unpack it first: tar -xf"),
    ):
        if head[at : at + len(magic)] == magic:
            raise InputError(f"{name}: is {what}", f"{advice} {name}")
    controls = len(head) - len(head.translate(None, _CONTROLS))
    # text has a few of them, such as terminal codes
    if controls > len(head) * 0.01:
        offset = next(i for i, byte in enumerate(head) if byte in _CONTROLS)
        raise InputError(
            f"{name}: is binary, not text (byte 0x{head[offset]:02x} at offset {offset})",
            "give the log itself, or name its encoding if it is text",
        )


_CONTROLS = bytes([*range(4, 7), *range(14, 27)])  # zeros, tabs, ends, escapes and separators occur in text
