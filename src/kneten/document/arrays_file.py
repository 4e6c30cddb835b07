"""The project file: a zip of JSON and NumPy arrays, written whole or not at all.

`docs/file-format.md` describes it; entries are stored, not packed, so that saving costs little more
than writing the arrays. A packed copy is a third as large and takes its time.
"""

from __future__ import annotations

import contextlib
import errno
import hashlib
import io
import json
import os
import zipfile
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any, BinaryIO

import numpy as np

from kneten.core.arrays import AnyArray, Cancelled, Progress
from kneten.document.packing import packable, packed, unpacked

CHUNK = 4 << 20

PACKED = "d"
"""What the name of an array ends with besides, where `packing` has laid out its bytes."""

MOST_SHARED = 8
"""How many times the bytes of all arrays those may have that are named only once and stand for several."""

MOST_DEFLATED = 1032
"""Bytes that deflate makes of one at most: 258 for two bits (RFC 1951). Even paint on millions of vertices comes close."""

MOST_PICTURE = 512 << 20
MOST_WORDS = 256 << 20
"""Bytes of a picture, and of the list of contents, at most."""


class ProjectFileError(Exception):
    """A project cannot be written or read. The text says why and what to do."""


@dataclass(frozen=True)
class Content:
    """What a file holds: one JSON document, arrays by name, and pictures by name."""

    document: dict[str, Any]
    arrays: dict[str, AnyArray]
    pictures: dict[str, bytes]


@contextlib.contextmanager
def replacing(path: Path) -> Iterator[BinaryIO]:
    """A new file that takes the place of `path` when the block ends well, and leaves no trace if not.

    Raises
    ------
    ProjectFileError
        When the disk is full, the folder cannot be written, and the like; the old file is whole.
    """
    path = Path(path)
    part = path.with_name(f".{path.name}.{os.getpid()}.part")
    try:
        with open(part, "wb") as file:
            yield file
            file.flush()
            os.fsync(file.fileno())
        os.replace(part, path)
        folder = os.open(path.parent, os.O_RDONLY)
        try:
            os.fsync(folder)
        finally:
            os.close(folder)
    except OSError as error:
        raise ProjectFileError(explain(error, path)) from error
    finally:
        with contextlib.suppress(OSError):
            part.unlink(missing_ok=True)


def explain(error: OSError, path: Path) -> str:
    """What went wrong with a file, and what to do, in one line."""
    where = path.name
    if error.errno == errno.ENOSPC:
        return f"The disk is full: {where} was not written, the old file is unchanged. Free some space or choose another disk."
    if error.errno in (errno.EACCES, errno.EPERM, errno.EROFS):
        return f"No permission for {where} in {path.parent}. Choose another folder."
    if error.errno in (errno.ENOENT, errno.ENOTDIR) and not path.parent.is_dir():
        there = "is a file, not a folder" if path.parent.exists() else "is not there"
        return f"The folder {path.parent} {there}. Make it first, or choose another one."
    if error.errno == errno.ENOENT:
        return f"There is no {path}. Check the name and the folder."
    if error.errno == errno.EISDIR:
        return f"{path} is a folder, not a file."
    if error.errno == errno.EDQUOT:
        return f"Your disk quota is used up: {where} was not written, the old file is unchanged."
    if error.errno == errno.ENAMETOOLONG:
        return "The name is too long. Choose a shorter one."
    return f"{where}: {error.strerror or error}."


def write_content(path: Path, content: Content, progress: Progress, small: bool = False) -> None:
    """Write a file atomically; on demand packed. Raises `ProjectFileError`; `Cancelled` through `progress`."""
    total = sum(a.nbytes for a in content.arrays.values()) + 1
    done = 0
    method = zipfile.ZIP_DEFLATED if small else zipfile.ZIP_STORED
    same = _likes(content.arrays) if small else {}
    document = {**content.document, "same": same} if same else content.document
    with (
        replacing(path) as file,
        zipfile.ZipFile(file, "w", method, allowZip64=True) as archive,
    ):
        # Entries have no time of their own, so that equal contents make equal files.
        archive.writestr(_entry("project.json", method), json.dumps(document, indent=1))
        for name, data in content.pictures.items():
            archive.writestr(_entry(name, zipfile.ZIP_STORED), data)
        for name, array in content.arrays.items():
            if name in same:
                continue
            array = np.ascontiguousarray(array)
            small_words = small and packable(array)
            info = _entry(name + PACKED if small_words else name, method)
            with archive.open(info, "w", force_zip64=array.nbytes > 1 << 30) as entry:
                np.lib.format.write_array_header_1_0(entry, np.lib.format.header_data_from_array_1_0(array))
                raw = (
                    np.frombuffer(packed(array), np.uint8)
                    if small_words
                    else array.reshape(-1).view(np.uint8)
                )
                data_view = memoryview(raw.data)
                for first in range(0, len(data_view), CHUNK):
                    entry.write(data_view[first : first + CHUNK])
                    done += min(CHUNK, len(data_view) - first)
                    progress.report(done / total, "Packing" if small else "Saving")


def _entry(name: str, method: int) -> zipfile.ZipInfo:
    info = zipfile.ZipInfo(name)
    info.compress_type = method
    return info


def _likes(arrays: dict[str, AnyArray]) -> dict[str, str]:
    """Arrays that hold the same as an earlier one: their names, and that one's."""
    first: dict[tuple[Any, ...], str] = {}
    same = {}
    for name, array in arrays.items():
        data = np.ascontiguousarray(array)
        told = hashlib.blake2b(data.reshape(-1).view(np.uint8).data).digest()
        before = first.setdefault((data.shape, data.dtype.str, told), name)
        if before != name:
            same[name] = before
    return same


def read_content(path: Path, progress: Progress) -> Content:
    """Read a file. Raises `ProjectFileError` when it is not a whole project file."""
    path = Path(path)
    try:
        with zipfile.ZipFile(path) as archive:
            return _read_archive(archive, path, progress)
    except OSError as error:
        raise ProjectFileError(explain(error, path)) from error
    except zipfile.BadZipFile as error:
        raise ProjectFileError(f"{path.name} is not a Kneten project, or it was cut short.") from error
    except (Cancelled, ProjectFileError):
        raise
    except MemoryError as error:
        raise ProjectFileError(f"There is not enough memory for {path.name}.") from error
    except Exception as error:
        # A file may be wrong in any way: whatever reading it meets is about the file, not about Kneten.
        raise ProjectFileError(f"{path.name} is damaged: {error or type(error).__name__}") from error


def _read_archive(archive: zipfile.ZipFile, path: Path, progress: Progress) -> Content:
    names = archive.namelist()
    _check_sizes(archive, path)
    if "project.json" not in names:
        raise ProjectFileError(f"{path.name} is a zip file, but not a Kneten project.")
    document = json.loads(archive.read("project.json"))
    if not isinstance(document, dict):
        raise ProjectFileError(f"{path.name} is damaged: its list of contents is no list.")
    arrays = {}
    pictures = {}
    for count, name in enumerate(names):
        info = archive.getinfo(name)
        if name.endswith(".png") or name.startswith("references/"):
            pictures[name] = archive.read(name)
        elif name.endswith((".npy", ".npy" + PACKED)):
            arrays[name.removesuffix(PACKED)] = _read_array(archive, info)
        progress.report((count + 1) / len(names), "Opening")
    _share(document.pop("same", {}), arrays)
    return Content(document, arrays, pictures)


def _share(same: dict[str, str], arrays: dict[str, AnyArray]) -> None:
    """Put arrays under the names that were left out because others hold the same. Raises `ValueError`, `KeyError`."""
    room = MOST_SHARED * sum(array.nbytes for array in arrays.values())
    for name, other in same.items():
        room -= arrays[other].nbytes
        if name in arrays or room < 0:
            raise ValueError("its arrays stand for each other in an impossible way")
        # Strokes write into some of them.
        arrays[name] = arrays[other].copy()


def _check_sizes(archive: zipfile.ZipFile, path: Path) -> None:
    """Refuse what would unpack to far more than the file is long, before anything is read."""
    entries = archive.infolist()
    if sum(entry.compress_size for entry in entries) > path.stat().st_size:
        raise ValueError("its entries lie over each other")
    for entry in entries:
        packed = entry.compress_type != zipfile.ZIP_STORED
        if entry.filename.endswith((".npy", ".npy" + PACKED)):
            most = MOST_DEFLATED * (entry.compress_size + 1) if packed else entry.file_size
        else:
            most = MOST_PICTURE if entry.filename != "project.json" else MOST_WORDS
        if entry.file_size > most:
            raise ValueError(f"{entry.filename} unpacks to an impossible size")


def _read_array(archive: zipfile.ZipFile, info: zipfile.ZipInfo) -> AnyArray:
    with archive.open(info) as entry:
        head = io.BytesIO(entry.read(min(info.file_size, 4096)))
        if np.lib.format.read_magic(head) != (1, 0):
            raise ValueError(f"{info.filename} is of an unknown kind")
        shape, fortran, dtype = np.lib.format.read_array_header_1_0(head)
        if dtype.hasobject or fortran:
            raise ValueError(f"{info.filename} is of an unknown kind")
        count = int(np.prod(shape, dtype=object)) if shape else 1
        if head.tell() + count * dtype.itemsize != info.file_size:
            raise ValueError(f"{info.filename} is shorter or longer than it says")
        array = np.empty(count, dtype)
        view = memoryview(array.view(np.uint8).data)
        rest = head.read()
        view[: len(rest)] = rest
        at = len(rest)
        while at < len(view):
            # Straight into place; at the end the zip checks the sum over all bytes.
            got = entry.readinto(view[at : at + CHUNK])  # type: ignore[attr-defined]
            if not got:
                raise EOFError(f"{info.filename} ends early")
            at += got
        if entry.read(1):
            raise ValueError(f"{info.filename} is longer than it says")
    if info.filename.endswith(PACKED):
        if not packable(array.reshape(shape)):
            raise ValueError(f"{info.filename} is of an unknown kind")
        return unpacked(array.view(np.uint8), shape, dtype)
    return array.reshape(shape)
