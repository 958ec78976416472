"""Packed files, unpacked as they are read: gzip, Zstandard, bzip2 and xz, each to its last member or not at all."""

from __future__ import annotations

import io
from collections.abc import Callable
from typing import Any, BinaryIO, NamedTuple

from patient_usher.core.model.document import Problem, Spot, Unusable

CHUNK = 1 << 10
"""Octets unpacked at a time: none of the codings makes more than some tens of MiB of so many."""
PIECE = 1 << 20
"""How many octets of bzip2 and xz are made at a time: a few packed ones can stand for hundreds of MiB."""
FREE, RATIO = 16 << 20, 100
"""A file that unpacks to more than so much may become so many times as large, and no larger."""


class Coding(NamedTuple):
    """A way of packing: its first octets, what it is called, and what makes a fresh decoder of one member."""

    magic: bytes
    name: str
    decoder: Callable[[], Any]


def _gzip() -> object:
    import zlib

    return zlib.decompressobj(31)  # RFC 1952, checked


def _zstd() -> object:
    import zstandard

    return zstandard.ZstdDecompressor(max_window_size=1 << 27).decompressobj()


def _bz2() -> object:
    import bz2

    return bz2.BZ2Decompressor()


def _xz() -> object:
    import lzma

    return lzma.LZMADecompressor(format=lzma.FORMAT_XZ, memlimit=1 << 28)


CODINGS = (
    Coding(b"\x1f\x8b", "gzip", _gzip),
    Coding(b"\x28\xb5\x2f\xfd", "Zstandard", _zstd),
    Coding(b"BZh", "bzip2", _bz2),
    Coding(b"\xfd7zXZ\x00", "xz", _xz),
)


def unpacked(stream: BinaryIO, name: str) -> BinaryIO:
    """The octets of a file, unpacked where it is packed; of a table in Parquet its rows, as JSON. Reading raises
    Unusable where it is cut off or broken.
    """
    head = stream.peek(6)[:6] if isinstance(stream, io.BufferedReader) else b""
    for coding in CODINGS:
        if head.startswith(coding.magic):
            return io.BufferedReader(_Unpacking(stream, name, coding), 1 << 16)
    if head.startswith(b"PAR1") and stream.seekable():
        from patient_usher.files.parquet_lines import ParquetLines  # few read tables

        return io.BufferedReader(ParquetLines(stream, name), 1 << 16)
    return stream


class _Unpacking(io.RawIOBase):
    """Members of one coding, one after the other (RFC 1952 2.2, RFC 8878 3.1)."""

    def __init__(self, stream: BinaryIO, name: str, coding: Coding) -> None:
        self.stream, self.name, self.coding = stream, name, coding
        self.decoder, self.began = coding.decoder(), False
        self.ready = memoryview(b"")
        self.read_octets = self.made = self.line = 0
        self.more = False

    def readable(self) -> bool:
        """Always."""
        return True

    def readinto(self, buffer: Any) -> int:
        """Fill what there is room for. Raises Unusable."""
        while not self.ready:
            raw = b"" if self.more else self.stream.read(CHUNK)
            self.read_octets += len(raw)
            if not raw and not self.more:
                if self.began:
                    raise self._unusable("is cut off: its last member has no end", "pack it again, whole")
                return 0
            self.ready = memoryview(self._decoded(raw))
        size = min(len(buffer), len(self.ready))
        buffer[:size], self.ready = self.ready[:size], self.ready[size:]
        return size

    def _decoded(self, raw: bytes) -> bytes:
        parts = []
        while raw or self.more:
            self.began = True
            try:
                parts.append(self.decoder.decompress(raw, *((PIECE,) if hasattr(self.decoder, "needs_input") else ())))
            except MemoryError:
                raise
            except Exception as error:  # each library has errors of its own
                raise self._unusable(f"can't be unpacked: {error}", "pack it again") from None
            raw = b""
            self.more = not (self.decoder.eof or getattr(self.decoder, "needs_input", True))
            if self.more:
                break
            if self.decoder.eof:
                raw = self.decoder.unused_data
                self.decoder, self.began = self.coding.decoder(), False
                if not raw.strip(b"\0"):  # padding behind the last member
                    raw = b""
        found = b"".join(parts)
        self.made += len(found)
        self.line += found.count(b"\n")
        if self.made > max(FREE, RATIO * self.read_octets):
            raise self._unusable(
                f"unpacks to more than {RATIO} times its size", "unpack it yourself, if it is meant so"
            )
        return found

    def _unusable(self, what: str, mend: str) -> Unusable:
        return Unusable([Problem(Spot(self.name, self.line + 1, 1), f"the {self.coding.name} file {what}", mend)])
