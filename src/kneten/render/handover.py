"""A scene handed over to the tracer as arrays: what the clay is, what lights it, what is looked at."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from scipy.cluster.vq import kmeans2

from kneten.core.arrays import F64, AnyArray
from kneten.core.camera import Camera
from kneten.core.fur.fibres import Fibres, write_fibres
from kneten.core.light.finish import Finish
from kneten.core.light.lamps import Lamp
from kneten.core.mesh import Mesh
from kneten.core.remesh import triangulate
from kneten.core.values import VALUES
from kneten.document.furs import furs_on, roots_of
from kneten.document.look import Look
from kneten.document.scene import Part, Scene
from kneten.document.things import leads_of
from kneten.render.lit import Light
from kneten.render.parts import shown_colours
from kneten.render.style import Style

BRIGHTEST = 0.98
"""No clay gives back more than this of what reaches it: else light would go on for ever."""

FAR = 60.0
"""How many times the size of the clay a disc that stands for a sun is away."""

GRID = 48
"""Places each way at which the light of a panel is counted."""

SPOTS = 12
"""Points that a wide spot is made of."""


CLEAR, SMOOTH = 0.5, 0.16
"""Opacity and roughness below which clay is clear, and smooth enough that one sees what it bends."""

MOST_SAMPLES = 65_536
"""For each pixel of a picture."""

MOST_SHADES = 10
"""Colours of one fur."""

AZIMUTHAL = 0.3
"""How rough fibres are round about."""


@dataclass(frozen=True)
class Order:
    """What is to be traced.

    Attributes
    ----------
    size : two ints
    samples : int
        For each pixel in all.
    seed : int
        The same one gives the same picture.
    depth : int
        How often light is followed from one surface to the next.
    clean : bool
        Noise is taken out.
    """

    size: tuple[int, int]
    samples: int = 64
    seed: int = 0
    depth: int = 6
    clean: bool = True

    def check(self) -> None:
        """Raise `ValueError`, with words for the user, where it cannot be traced."""
        if not all(1 <= n <= 8192 for n in self.size):
            raise ValueError("A ray-traced picture has 1 to 8,192 pixels along a side.")
        if not 1 <= self.samples <= MOST_SAMPLES:
            raise ValueError("A ray-traced picture has 1 to 65,536 samples for each pixel.")
        if not 0 <= self.seed < 2**31 or not 1 <= self.depth <= 64:
            raise ValueError("The seed or the depth of the ray-traced picture is not usable.")


def hand_over(folder: Path, scene: Scene, camera: Camera, style: Style, order: Order) -> None:
    """Write all that the tracer needs into a folder, arrays as .npy. Raises `ValueError` and `OSError`."""
    order.check()
    low, high = scene.bounds()
    light = Light.of(scene, camera, low, high)
    parts = [part for part in scene.parts if part.visible and part.mesh.n_vertices]
    told = []
    for k, part in enumerate(parts):
        arrays = _clay(part, style.look)
        for name, values in arrays.items():
            np.save(folder / f"{k}-{name}.npy", values)
        told.append({"key": str(k), "clear": "opacity" in arrays, "bends": _bends(arrays)})
    tresses = [one for part in parts for one in _tresses(scene, part)]
    for k, tress in enumerate(tresses):
        (folder / f"tress-{k}.txt").write_text(tress.text)
    sky = light.tables.levels[0] * light.around.strength
    # Its lower half is the floor.
    sky[len(sky) // 2 :] += light.floor_gives()
    # The tracer's table goes round the other way.
    np.save(folder / "sky.npy", np.ascontiguousarray(sky[:, ::-1], np.float32))
    reach = max(float(np.linalg.norm(high - low)) / 2, 1e-3)
    middle = (low + high) / 2
    words = {
        "parts": told,
        "tresses": [tress.absorbs for tress in tresses],
        "lamps": [one for lamp in light.lamps for one in _lamp(lamp, light.axes, middle, reach)],
        "sky": {"turn": light.around.turn, "lit": bool(sky.max() > 0)},
        "camera": _camera(camera, style.finish),
        "size": list(order.size),
        "samples": order.samples,
        "seed": order.seed,
        "depth": order.depth,
        "clean": order.clean,
    }
    (folder / "scene.json").write_text(json.dumps(words))


def _clay(part: Part, look: Look) -> dict[str, AnyArray]:
    """A part's arrays: places and normals (n, 3) in the scene, triangles (t, 3), what it is made of by vertices."""
    mesh: Mesh = part.mesh.settled()
    n = mesh.n_vertices
    faces = triangulate(mesh.topology.faces)
    if part.transform.mirror:
        faces = faces[:, ::-1]
    places = part.transform.to_scene(mesh.positions.astype(np.float64))
    normals = mesh.normals.astype(np.float64) @ part.transform.axes().T
    normals /= np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-12)
    codes = shown_colours(mesh, 0, n)[:, :3].astype(np.float32) / 255
    material = mesh.material
    if material is None:
        rough, metal, deep, wet = look.roughness, look.metalness, 0.0, 0.0
        made: AnyArray = np.tile(np.array([rough, metal, deep, wet], np.float32), (n, 1))
    else:
        made = material.astype(np.float32) / 255
    made[:, 0] = np.maximum(made[:, 0], 0.05)
    base: AnyArray = np.minimum(codes * codes, BRIGHTEST)
    # The tracer's clay gives back more than comes in, the rougher the more (measured in an even sky, and under our light sets); metal does not.
    base *= 1 - (0.025 + 0.03 * made[:, :1]) * (1 - made[:, 1:2])
    # What is porous drinks water and grows darker, as in the view.
    base *= 1 - 0.30 * made[:, 3:] * made[:, :1] * (1 - made[:, 1:2])
    arrays: dict[str, AnyArray] = {
        "places": np.ascontiguousarray(places, np.float32),
        "normals": np.ascontiguousarray(normals, np.float32),
        "faces": np.ascontiguousarray(faces, np.uint32),
        "colour": np.ascontiguousarray(base, np.float32),
        "made": np.ascontiguousarray(made, np.float32),
    }
    if mesh.colour is not None and (mesh.colour[:, 3] != VALUES["colour"].none(1)[0, 3]).any():
        arrays["opacity"] = mesh.colour[:, 3].astype(np.float32) / 255
    return arrays


def _bends(arrays: Mapping[str, AnyArray]) -> bool:
    """Whether light is bent in a part: clear, smooth clay lies before what is not clear, as a cornea before its iris.

    What is clear as a whole lets through unbent: else the sky would be seen through it, and not the backdrop.
    """
    if "opacity" not in arrays:
        return False
    clear = arrays["opacity"] < CLEAR
    return bool(clear.any() and not clear.all() and (arrays["made"][clear, 0] < SMOOTH).all())


# -- fur ------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class _Tress:
    """Fibres of about one colour: what they absorb, and their courses as the tracer reads them."""

    absorbs: list[float]
    text: str


def _tresses(scene: Scene, part: Part) -> list[_Tress]:
    """The fibres of a part's furs, put together by colour."""
    out: list[_Tress] = []
    mesh = part.mesh.settled()
    for fur in furs_on(scene, part.id):
        if not fur.numbers.shown:
            continue
        roots = roots_of(scene, fur, mesh)()
        fibres = Fibres.room(len(roots))
        write_fibres(mesh, fur.numbers, roots, leads_of(fur, mesh), fibres)
        places = part.transform.to_scene(fibres.places.reshape(-1, 3).astype(np.float64)).reshape(
            fibres.places.shape
        )
        there = np.linalg.norm(places[:, -1] - places[:, 0], axis=1) > 1e-6
        places, colours = places[there], fibres.colours[there]
        if len(places) == 0:
            continue
        # Towards the tip a fibre grows thin.
        along = np.linspace(1.0, 0.2, places.shape[1]) * fur.numbers.width * part.transform.scale / 2
        shades = (colours[..., :3].astype(np.float64) / 255).mean(axis=1)
        count = min(MOST_SHADES, len(np.unique(colours[:, -1, :3], axis=0)))
        middles, which = kmeans2(shades, count, minit="++", rng=np.random.default_rng(0))
        for k, shade in enumerate(middles):
            own = places[which == k]
            if len(own):
                out.append(_Tress(_absorbed(shade).tolist(), _courses(own, along)))
    return out


def _courses(places: F64, radii: F64) -> str:
    """Fibres (k, n, 3) as text: a line for each place with its radius (n,), an empty one between fibres."""
    rows = np.concatenate([places, np.broadcast_to(radii[:, None], (*places.shape[:2], 1))], axis=2)
    fibres = ("\n".join("{:.6g} {:.6g} {:.6g} {:.4g}".format(*row) for row in one.tolist()) for one in rows)
    return "\n\n".join(fibres) + "\n"


def _absorbed(codes: F64) -> F64:
    """What fibres absorb that together look like a colour (3,), by fits to traced hair (Chiang, 2016)."""
    light = np.clip(codes * codes, 1e-3, 0.99)
    b = AZIMUTHAL
    fit = 5.969 - 0.215 * b + 2.532 * b**2 - 10.73 * b**3 + 5.574 * b**4 + 0.245 * b**5
    return np.asarray((np.log(light) / fit) ** 2)


def _camera(camera: Camera, finish: Finish) -> dict[str, Any]:
    return {
        "eye": camera.eye().tolist(),
        "axes": camera.axes().tolist(),
        "angle": camera.angle,
        "half_height": camera.half_height(),
        "orthographic": camera.orthographic,
        "lens": finish.lens(camera),
        "sharp": finish.focus_distance(camera),
    }


# -- lamps ----------------------------------------------------------------------------------------


def _lamp(lamp: Lamp, axes: F64, middle: F64, reach: float) -> list[dict[str, Any]]:
    """What stands for a lamp: emitters that give where it aims what it says, white clay being white at 1."""
    way, light = lamp.towards(axes), lamp.light()
    # White clay that faces a lamp of strength 1 gives back 1: what arrives is then pi.
    arrives = np.pi * light
    if lamp.is_far:
        return [_sun(lamp, way, light, middle, reach)]
    place = lamp.place()
    if lamp.kind == "panel":
        half = max(lamp.size * np.sqrt(np.pi) / 4, 1e-3 * lamp.distance)
        return [
            {
                "kind": "rectangle",
                "matrix": _facing(place, -way, half).tolist(),
                "radiance": (arrives / _panel_share(half, lamp.distance)).tolist(),
            }
        ]
    if lamp.kind == "point":
        radius = max(lamp.size / 2, 1e-3 * lamp.distance)
        radiance = light * (lamp.distance / radius) ** 2
        return [{"kind": "sphere", "at": place.tolist(), "radius": radius, "radiance": radiance.tolist()}]
    return _spots(lamp, way, place, arrives)


def _sun(lamp: Lamp, way: F64, light: F64, middle: F64, reach: float) -> dict[str, Any]:
    if lamp.spread() < 1e-3:
        return {"kind": "sun", "way": (-way).tolist(), "irradiance": (np.pi * light).tolist()}
    away = FAR * reach
    radius = away * lamp.spread()
    # What arrives from a disc straight ahead: pi L sin^2 of half its angle.
    share = radius**2 / (radius**2 + away**2)
    return {
        "kind": "disk",
        "matrix": _facing(middle + way * away, -way, radius).tolist(),
        "radiance": (light / share).tolist(),
    }


def _spots(lamp: Lamp, way: F64, place: F64, arrives: F64) -> list[dict[str, Any]]:
    """A spot as several points of its width, whose shadows together are soft."""
    frame = _facing(place, -way, 1.0)
    count = SPOTS if lamp.size > 1e-3 * lamp.distance else 1
    out = []
    for k in range(count):
        angle, far = k * 2.399963, np.sqrt((k + 0.5) / count) * lamp.size / 2 if count > 1 else 0.0
        at = place + (frame[:3, 0] * np.cos(angle) + frame[:3, 1] * np.sin(angle)) * far
        out.append(
            {
                "kind": "spot",
                "at": at.tolist(),
                "aim": list(lamp.aim),
                "up": frame[:3, 1].tolist(),
                "cone": lamp.cone / 2,
                "intensity": (arrives * lamp.distance**2 / count).tolist(),
            }
        )
    return out


def _facing(at: F64, way: F64, half: float) -> F64:
    """(4, 4) of a thing of size 2 at a place that faces a direction (3,)."""
    z = way / np.linalg.norm(way)
    side = np.array([0.0, 1.0, 0.0]) if abs(z[1]) < 0.9 else np.array([1.0, 0.0, 0.0])
    x = np.cross(side, z)
    x /= np.linalg.norm(x)
    matrix = np.eye(4)
    matrix[:3, 0], matrix[:3, 1], matrix[:3, 2] = x * half, np.cross(z, x) * half, z
    matrix[:3, 3] = at
    return matrix


def _panel_share(half: float, distance: float) -> float:
    """What arrives straight before a square panel of light 1, half as wide as is given."""
    at = (np.arange(GRID) + 0.5) / GRID * 2 - 1
    x, y = np.meshgrid(at * half, at * half)
    far = x * x + y * y + distance * distance
    return float((distance * distance / (far * far)).sum() * (2 * half / GRID) ** 2)
