"""Exact work on solids, in a process of its own when it is heavy.

manifold3d keeps the interpreter's lock while it computes: in a thread, two parts of two million triangles would
freeze the window for seconds. A process beside does not, and it can be ended at any moment. Small work stays
here: a process costs 0.3 s to start and a copy of all arrays. The process waits for more work until this one
ends.
"""

from __future__ import annotations

import atexit
import contextlib
import pickle
import queue
import struct
import subprocess
import sys
import threading
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import IO, Any

import manifold3d
import numpy as np

from kneten.core.arrays import F32, F64, AnyArray, Progress

SMALL = 40_000
"""Triangles up to which work is done in this process: about 40 ms."""

OPERATIONS = {
    "join": manifold3d.OpType.Add,
    "subtract": manifold3d.OpType.Subtract,
    "intersect": manifold3d.OpType.Intersect,
}

SERVE = "import sys; from kneten.core.solid_work import serve; serve(sys.stdin.buffer, sys.stdout.buffer)"
"""Run by name, so that what travels has the same classes on both sides."""

Report = Callable[[float, str], None]


class SolidError(ValueError):
    """The clay cannot be used as a solid, or nothing is left. The text says what to do."""


@dataclass(frozen=True)
class RawSolid:
    """Triangles of one body.

    Attributes
    ----------
    positions : (n, 3) float32
    triangles : (t, 3) uint32
    faces : (t,) uint32
        The face each triangle comes from, numbered over all bodies of a request.
    """

    positions: F32
    triangles: AnyArray
    faces: AnyArray


@dataclass(frozen=True)
class Request:
    """One piece of work.

    Attributes
    ----------
    what : str
        join, subtract, intersect; cut (the first body by the others); simplify.
    axes : sequence of int
        The result is trimmed to where these coordinates are not below 0.
    both : bool
        A cut gives what was cut off as well.
    eyes : (tools, 3) float64 or None
        Only the foremost piece under each tool is cut, seen from here.
    tolerance : float
        How far `simplify` may move the surface.
    """

    what: str
    bodies: list[RawSolid]
    axes: Sequence[int] = ()
    both: bool = False
    eyes: F64 | None = None
    tolerance: float = 0.0


# -- the work -------------------------------------------------------------------------------------


def _solid(raw: RawSolid) -> manifold3d.Manifold:
    solid = manifold3d.Manifold(manifold3d.Mesh(raw.positions, raw.triangles, face_id=raw.faces))
    if solid.status() != manifold3d.Error.NoError:
        raise SolidError("the clay is not a closed solid; remesh it evenly first")
    return solid


def _raw(solid: manifold3d.Manifold) -> RawSolid:
    if solid.status() != manifold3d.Error.NoError:
        raise SolidError("the solids could not be computed; remesh the parts evenly first")
    found = solid.to_mesh()
    triangles = np.ascontiguousarray(found.tri_verts, np.uint32)
    positions = np.ascontiguousarray(found.vert_properties[:, :3], np.float32)
    if len(triangles) == 0:
        raise SolidError("nothing would be left")
    if len(found.merge_from_vert):
        place = np.arange(len(positions), dtype=np.uint32)
        place[found.merge_from_vert] = found.merge_to_vert
        triangles = place[triangles]
    return RawSolid(positions, triangles, np.ascontiguousarray(found.face_id, np.uint32))


def _trimmed(solid: manifold3d.Manifold, axes: Sequence[int]) -> manifold3d.Manifold:
    for axis in axes:
        solid = solid.trim_by_plane(tuple(np.eye(3)[axis]), 0.0)
    return solid


def solve(request: Request, report: Report) -> list[RawSolid]:
    """Do the work here and now. Raises `SolidError`."""
    report(0.05, "Reading the parts")
    solids = [_solid(raw) for raw in request.bodies]
    report(0.3, "Cutting surfaces")
    if request.what == "simplify":
        found = [solids[0].simplify(request.tolerance)]
    elif request.what == "cut":
        # What mirrors is cut on one side only: the mirrored outline's walls may nearly coincide with the
        # outline's own, and a union of the two would take minutes.
        found = _cut(_trimmed(solids[0], request.axes), solids[1:], request, report)
    else:
        whole = manifold3d.Manifold.batch_boolean(solids, OPERATIONS[request.what])
        if whole.status() == manifold3d.Error.NoError and whole.num_tri() == 0:
            raise SolidError("nothing would be left")
        found = [_trimmed(whole, request.axes)]
    report(0.8, "Putting together")
    return [_raw(solid) for solid in found]


def _cut(
    body: manifold3d.Manifold, tools: list[manifold3d.Manifold], request: Request, report: Report
) -> list[manifold3d.Manifold]:
    """What is left of a body and, where both are wanted, what was cut off."""
    left, offs = body, []
    for count, tool in enumerate(tools):
        off, rest = left.split(tool)
        if not off.is_empty() and off.num_tri() > 0:
            if request.eyes is not None:
                pieces = off.decompose()
                if len(pieces) > 1:
                    eye = request.eyes[count]
                    off = min(pieces, key=lambda piece: _near(piece, eye))
                    rest = left - off
            offs.append(off)
            left = rest
        report(0.3 + 0.4 * (count + 1) / len(tools), "Cutting surfaces")
    if not offs:
        raise SolidError("the outline misses the part in hand; nothing was cut")
    if left.is_empty() or left.num_tri() == 0:
        raise SolidError("the outline holds the whole part; nothing would be left")
    if not request.both:
        return [left]
    off = offs[0] if len(offs) == 1 else manifold3d.Manifold.batch_boolean(offs, OPERATIONS["join"])
    return [left, off]


def _near(piece: manifold3d.Manifold, eye: F64) -> float:
    return float(np.linalg.norm(piece.to_mesh().vert_properties[:, :3] - eye, axis=1).min())


# -- the process ----------------------------------------------------------------------------------


def _send(stream: IO[bytes], thing: object) -> None:
    data = pickle.dumps(thing, protocol=5)
    stream.write(struct.pack("<Q", len(data)))
    stream.write(data)
    stream.flush()


def _receive(stream: IO[bytes]) -> Any:
    head = stream.read(8)
    if len(head) < 8:
        raise EOFError
    (length,) = struct.unpack("<Q", head)
    data = stream.read(length)
    if len(data) < length:
        raise EOFError
    return pickle.loads(data)


@dataclass
class _Helper:
    """The process beside, and what it has said."""

    process: subprocess.Popen[bytes]
    replies: queue.Queue[tuple[str, Any]] = field(default_factory=queue.Queue)

    def listen(self) -> None:
        assert self.process.stdout is not None
        while True:
            try:
                self.replies.put(_receive(self.process.stdout))
            except Exception:
                # The process has ended, or what it says makes no sense: it is of no more use.
                self.replies.put(("gone", ""))
                return


_lock = threading.Lock()
_helper: _Helper | None = None


def _started() -> _Helper:
    global _helper
    if _helper is None or _helper.process.poll() is not None:
        process = subprocess.Popen(
            [sys.executable, "-c", SERVE], stdin=subprocess.PIPE, stdout=subprocess.PIPE
        )
        _helper = _Helper(process)
        threading.Thread(target=_helper.listen, daemon=True).start()
    return _helper


def end_helper() -> None:
    """End the process beside, whatever it does."""
    global _helper
    if _helper is not None:
        _helper.process.kill()
        _helper.process.wait()
        for stream in (_helper.process.stdin, _helper.process.stdout):
            if stream is not None:
                with contextlib.suppress(OSError):
                    stream.close()
        _helper = None


atexit.register(end_helper)


def solved(request: Request, progress: Progress) -> list[RawSolid]:
    """Do the work, beside this process when it is heavy.

    Raises
    ------
    SolidError
        When it cannot be done.
    Cancelled
        Through `progress`; the process beside is ended.
    """
    if sum(len(raw.triangles) for raw in request.bodies) <= SMALL:
        return solve(request, progress.report)
    with _lock:
        helper = _started()
        try:
            assert helper.process.stdin is not None
            said = (0.02, "Reading the parts")
            progress.report(*said)
            with contextlib.suppress(OSError):
                _send(helper.process.stdin, request)
            while True:
                try:
                    kind, what = helper.replies.get(timeout=0.1)
                except queue.Empty:
                    progress.report(*said)
                    continue
                if kind == "at":
                    said = what
                    progress.report(*said)
                elif kind == "done":
                    found: list[RawSolid] = what
                    return found
                elif kind == "error":
                    raise SolidError(what)
                else:
                    # Its end may not be known to the system yet: what is no more heard of is not used again.
                    end_helper()
                    raise SolidError(
                        "the operation ended early, most likely for want of memory; "
                        "use fewer vertices, or close other programs"
                    )
        except BaseException as error:
            if not isinstance(error, SolidError) or helper.process.poll() is not None:
                end_helper()
            raise


def serve(requests: IO[bytes], replies: IO[bytes]) -> None:
    """Answer requests until there are no more."""
    while True:
        try:
            request = _receive(requests)
        except EOFError:
            return
        try:
            found = solve(request, lambda share, text: _send(replies, ("at", (share, text))))
            _send(replies, ("done", found))
        except SolidError as error:
            _send(replies, ("error", str(error)))
