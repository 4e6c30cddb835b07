"""Measures of the mesh that are shown as colours: curvature, stretch, density; and regions."""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F32, F64, I32, U8, U32, inlined, kernel
from kneten.core.mesh import Mesh
from kneten.core.topology import NO_CORNER, PATCH


@inlined
def _between(low: float, high: float, value: float) -> float:
    return min(max((value - low) / (high - low), 0.0), 1.0)


@kernel
def measure_patches(
    positions: F32,
    normals: F32,
    faces: U32,
    start: U32,
    ring: U32,
    which: I32,
    kind: int,
    scale: float,
    out: F32,
) -> None:
    """Measure the vertices of some patches, one patch after the other, into `out`, 0..1.

    Parameters
    ----------
    kind : int
        0: curvature, how far the normals of neighbours lean away (over 0.5) or towards each other, seen
        over the length `scale`. 1: stretch, the worst ratio of a face's longest to its shortest edge, from 1
        (0) to 8 (1), by its logarithm. 2: density, the mean edge length against `scale`, from a quarter
        (0) to four times (1), by its logarithm.
    """
    row = 0
    for i in range(which.shape[0]):
        first = which[i] * PATCH
        for v in range(first, min(first + PATCH, positions.shape[0])):
            bend = 0.0
            weight = 0.0
            worst = 1.0
            edges = 0.0
            count = 0
            for k in range(start[v, 0], start[v, 1]):
                f = ring[k]
                size = 3 if faces[f, 3] == NO_CORNER else 4
                shortest = np.inf
                longest = 0.0
                for c in range(size):
                    a = faces[f, c]
                    b = faces[f, (c + 1) % size]
                    dx = np.float64(positions[b, 0]) - positions[a, 0]
                    dy = np.float64(positions[b, 1]) - positions[a, 1]
                    dz = np.float64(positions[b, 2]) - positions[a, 2]
                    d2 = dx * dx + dy * dy + dz * dz
                    shortest = min(shortest, d2)
                    longest = max(longest, d2)
                    if v in (a, b):
                        edges += np.sqrt(d2)
                        count += 1
                        lean = (
                            dx * (np.float64(normals[b, 0]) - normals[a, 0])
                            + dy * (np.float64(normals[b, 1]) - normals[a, 1])
                            + dz * (np.float64(normals[b, 2]) - normals[a, 2])
                        )
                        bend += lean
                        weight += d2
                worst = max(worst, longest / max(shortest, 1e-30))
            if kind == 0:
                # Change of the normal along the edges, per length: 1 / radius of the ball that fits.
                bow = bend / max(weight, 1e-30) * scale
                out[row] = 0.5 + 0.5 * bow / (1.0 + abs(bow))
            elif kind == 1:
                out[row] = _between(0.0, np.log(64.0), np.log(worst))
            else:
                mean = edges / max(count, 1)
                out[row] = _between(-np.log(4.0), np.log(4.0), np.log(max(mean, 1e-30) / scale))
            row += 1


KINDS = {"curvature": 0, "stretch": 1, "density": 2}


def scale_of(mesh: Mesh, kind: str) -> float:
    """The length that a measure is seen against: see `measure_patches`.

    For curvature a fifteenth of the part's size, for density its mean edge (of up to 4,096 faces).
    """
    low, high = mesh.bounds()
    if kind == "curvature":
        return float(np.linalg.norm(high - low)) / 15 or 1.0
    return mean_edge(mesh) or 1.0


def mean_edge(mesh: Mesh) -> float:
    """The mean edge length, of up to 4,096 faces."""
    faces = mesh.topology.faces[:: max(mesh.topology.n_faces // 4096, 1)]
    a, b = mesh.positions[faces[:, 0]], mesh.positions[faces[:, 1]]
    return float(np.linalg.norm(a - b, axis=1).mean())


def heat(mesh: Mesh, kind: str, which: I32, scale: float) -> F32:
    """The measure of all vertices of some patches (p,), ascending, patch after patch, (512 p,) from 0 to 1."""
    last = mesh.n_vertices - (mesh.topology.n_patches - 1) * PATCH
    count = len(which) * PATCH
    if len(which) and which[-1] == mesh.topology.n_patches - 1:
        count += last - PATCH
    out = np.empty(count, np.float32)
    measure_patches(mesh.positions, mesh.normals, *mesh.topology.walk, which, KINDS[kind], scale, out)
    return out


def _palette(*stops: tuple[float, float, float, float]) -> U8:
    at = np.linspace(0, 1, 256)
    places = [s[0] for s in stops]
    bands = [np.interp(at, places, [s[1 + c] for s in stops]) for c in range(3)]
    colours: F64 = np.stack([*bands, np.ones(256)], axis=1)
    return np.asarray(np.rint(colours * 255), np.uint8)


PALETTES: dict[str, U8] = {
    # Deep blue hollows, pale flats, warm ridges.
    "curvature": _palette(
        (0.0, 0.10, 0.22, 0.42), (0.35, 0.42, 0.58, 0.68), (0.5, 0.80, 0.78, 0.74),
        (0.65, 0.86, 0.66, 0.45), (1.0, 0.72, 0.28, 0.12),
    ),
    # Calm until it is worth a look.
    "stretch": _palette(
        (0.0, 0.62, 0.68, 0.64), (0.3, 0.66, 0.70, 0.60), (0.55, 0.85, 0.74, 0.38),
        (0.8, 0.84, 0.42, 0.20), (1.0, 0.62, 0.10, 0.12),
    ),
    # Fine is dark, coarse is bright.
    "density": _palette(
        (0.0, 0.16, 0.14, 0.34), (0.3, 0.14, 0.40, 0.52), (0.55, 0.30, 0.62, 0.48),
        (0.8, 0.72, 0.78, 0.36), (1.0, 0.96, 0.90, 0.62),
    ),
    # Far inwards, unchanged, far outwards.
    "distance": _palette(
        (0.0, 0.12, 0.30, 0.58), (0.4, 0.55, 0.66, 0.72), (0.5, 0.74, 0.72, 0.68),
        (0.6, 0.82, 0.66, 0.50), (1.0, 0.70, 0.20, 0.12),
    ),
    # Clay beside which another part's UVs are shown.
    "laid": _palette((0.0, 0.62, 0.60, 0.57), (1.0, 0.62, 0.60, 0.57)),
}  # fmt: skip
"""Colours from 0 to 1, (256, 4) sRGB, by measure."""


def heat_colours(kind: str, values: F32) -> U8:
    """Colours (k, 4) of values 0..1."""
    at = np.clip(values * 255 + 0.5, 0, 255).astype(np.uint8)
    return PALETTES[kind][at]
