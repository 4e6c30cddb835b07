"""The record of a journal: entries one behind another in a file that is only ever added to.

An entry is a head, JSON, and arrays. The head has its own sum, so that its lengths can be trusted; whoever
only counts reads heads alone. A write that fails (disk full) is taken back, so that later entries stand in
a sound place; where even that fails, the reader looks for the next sound entry behind the damaged one.
"""

from __future__ import annotations

import contextlib
import io
import json
import mmap
import os
import struct
import zlib
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from kneten.core.arrays import AnyArray

MAGIC = b"KNTK"
HEAD = struct.Struct("<4sB3xQQI")
"""Magic, flags, bytes of JSON, bytes of arrays, CRC-32 of both; the CRC-32 of all that follows."""

HEAD_SIZE = HEAD.size + 4

FIRST = 1
"""Flag of what a record begins with: the state it starts from, no change."""


@dataclass(frozen=True)
class Head:
    """Where an entry lies, and how long it is."""

    at: int
    flags: int
    n_text: int
    n_data: int
    check: int

    @property
    def end(self) -> int:
        """Where the next entry begins."""
        return self.at + HEAD_SIZE + self.n_text + self.n_data


class RecordFile:
    """A record that is being written, without a buffer: what is written has left this process."""

    def __init__(self, path: Path) -> None:
        self._file = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
        self._sound = 0

    def append(self, words: dict[str, Any], arrays: dict[str, AnyArray], first: bool = False) -> None:
        """Hand an entry, its arrays (n, ...) by name, to the system in one go: from then on a crash of this process loses nothing.

        Raises
        ------
        OSError
            When it cannot be written; what was written of it is taken back.
        """
        body = io.BytesIO()
        for name, array in arrays.items():
            encoded = name.encode()
            body.write(struct.pack("<H", len(encoded)) + encoded)
            np.lib.format.write_array(body, np.ascontiguousarray(array), allow_pickle=False)
        text = json.dumps(words).encode()
        data = body.getbuffer()
        check = zlib.crc32(data, zlib.crc32(text))
        head = HEAD.pack(MAGIC, FIRST if first else 0, len(text), len(data), check)
        try:
            _write_all(self._file, head + struct.pack("<I", zlib.crc32(head)) + text)
            _write_all(self._file, data)
        except OSError:
            with contextlib.suppress(OSError):
                os.ftruncate(self._file, self._sound)
                os.lseek(self._file, self._sound, os.SEEK_SET)
            raise
        self._sound += HEAD_SIZE + len(text) + len(data)

    def settle(self) -> None:
        """Wait until all that was written is on the disk itself. Raises `OSError`."""
        os.fsync(self._file)

    def close(self) -> None:
        """End it; what was written stays."""
        with contextlib.suppress(OSError):
            os.close(self._file)


def _write_all(file: int, data: bytes | memoryview) -> None:
    left = memoryview(data)
    while left:
        left = left[os.write(file, left) :]


class RecordReader:
    """Reads a record's entries; damaged ones are passed over and counted.

    Attributes
    ----------
    damaged : int
        Places where something was passed over so far.
    """

    def __init__(self, path: Path) -> None:
        self._path = path
        self.damaged = 0

    def heads(self) -> Iterator[Head]:
        """The entries' heads, without their contents: costs nothing for what they hold."""
        with _mapped(self._path) as data:
            yield from self._heads(data, False)

    def entries(self) -> Iterator[tuple[Head, dict[str, Any], dict[str, AnyArray]]]:
        """The whole entries in order: head, JSON, arrays (n, ...) by name."""
        with _mapped(self._path) as data:
            for head in self._heads(data, True):
                middle = head.at + HEAD_SIZE + head.n_text
                words = json.loads(data[head.at + HEAD_SIZE : middle])
                yield head, words, _unpacked(data[middle : head.end])

    def _heads(self, data: bytes | mmap.mmap, whole: bool) -> Iterator[Head]:
        at, size = 0, len(data)
        while at < size:
            head = _head_at(data, at)
            fits = head is not None and head.end <= size
            if head is None or not fits or (whole and not _is_whole(data, head)):
                # A cut entry may have others inside what would have been its length.
                self.damaged += 1
                at = data.find(MAGIC, at + 1)
                while at >= 0 and _head_at(data, at) is None:
                    at = data.find(MAGIC, at + 1)
                if at < 0:
                    return
                continue
            yield head
            at = head.end


@contextlib.contextmanager
def _mapped(path: Path) -> Iterator[bytes | mmap.mmap]:
    with open(path, "rb") as file:
        if os.fstat(file.fileno()).st_size == 0:
            yield b""
            return
        with mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ) as data:
            yield data


def _head_at(data: bytes | mmap.mmap, at: int) -> Head | None:
    head = data[at : at + HEAD_SIZE]
    if len(head) < HEAD_SIZE or head[:4] != MAGIC:
        return None
    if struct.unpack("<I", head[HEAD.size :])[0] != zlib.crc32(head[: HEAD.size]):
        return None
    _, flags, n_text, n_data, check = HEAD.unpack(head[: HEAD.size])
    return Head(at, flags, n_text, n_data, check)


def _is_whole(data: bytes | mmap.mmap, head: Head) -> bool:
    check = 0
    for first in range(head.at + HEAD_SIZE, head.end, 16 << 20):
        check = zlib.crc32(data[first : min(first + (16 << 20), head.end)], check)
    return check == head.check


def _unpacked(data: bytes) -> dict[str, AnyArray]:
    arrays = {}
    body = io.BytesIO(data)
    while prefix := body.read(2):
        (length,) = struct.unpack("<H", prefix)
        name = body.read(length).decode()
        arrays[name] = np.lib.format.read_array(body, allow_pickle=False)
    return arrays
