"""The process that traces light: reads what was handed over, refines the picture pass by pass, tells of each.

It runs on its own, ``python -m kneten.render.tracer FOLDER ASKER``, so that it can be paused and ended at any moment, and what goes
wrong in it reaches nothing else. A pass is told of as a line of JSON; the picture so far lies in the folder.
"""

from __future__ import annotations

import json
import os
import shutil
import signal
import sys
import time
from pathlib import Path
from typing import Any

import numpy as np

from kneten.core.arrays import F32

PASSES = (1, 1, 2, 4)
"""Samples of the first passes; all later ones have as many as the last."""

PATIENCE = 120.0
"""Seconds to wait for what the denoiser is helped by."""


def main(folder: Path, asker: int = 0) -> int:
    """Trace what lies in a folder, as long as the process that asked for it lives; 0 when it is done."""
    try:
        import mitsuba as mi
    except ImportError as error:
        _tell(
            failed=f"ray-traced pictures need the package mitsuba: run ./kneten demo again to install it ({error})"
        )
        return 3
    mi.set_variant("scalar_rgb")
    mi.set_log_level(mi.LogLevel.Error)
    words = json.loads((folder / "scene.json").read_text())
    began = time.perf_counter()
    scene = mi.load_dict(_scene(mi, folder, words))
    _tell(loaded=time.perf_counter() - began)
    width, height = words["size"]
    total = np.zeros((height, width, 4), np.float64)
    enough: list[int] = []
    # Whoever has seen enough still gets the best there is.
    signal.signal(signal.SIGTERM, lambda number, _: enough.append(number))
    done = number = cleaned = told = 0
    while done < words["samples"] and not enough:
        if asker and os.getppid() != asker:
            # Nobody is left to whom it would tell anything.
            shutil.rmtree(folder, ignore_errors=True)
            return 4
        samples = min(PASSES[min(number, len(PASSES) - 1)], words["samples"] - done)
        began = time.perf_counter()
        # Seeds of different passes and pictures never meet.
        found = np.array(mi.render(scene, spp=samples, seed=words["seed"] * 100_003 + number), np.float32)
        total += np.nan_to_num(found, nan=0.0, posinf=0.0, neginf=0.0) * float(samples)
        done += samples
        number += 1
        spent = time.perf_counter() - began
        # Taking the noise out costs more than a sample: with four times as many as before, and at the end.
        if words["clean"] and cleaned and done < min(4 * cleaned, words["samples"]):
            _tell(samples=done, seconds=spent)
            continue
        cleaned = told = done
        _refined(folder, words, (total / done).astype(np.float32), number, done, spent)
    if told < done:
        _refined(folder, words, (total / done).astype(np.float32), number + 1, done, 0.0)
    return 0


def _refined(folder: Path, words: dict[str, Any], picture: F32, number: int, done: int, spent: float) -> None:
    """Write a picture and tell of it."""
    if words["clean"]:
        try:
            picture = _cleaned(folder, picture)
        except Exception as error:  # the library's own words are all there is
            words["clean"] = False
            _tell(notice=f"the noise stays: the package pyoidn is missing or fails ({error})")
    _write(folder, picture, number)
    _tell(samples=done, file=f"picture-{number % 2}.npy", seconds=spent)


def _cleaned(folder: Path, picture: F32) -> F32:
    """A picture without its noise; the colours and normals drawn meanwhile say where edges are."""
    import pyoidn

    helping, until = folder / "helping.npy", time.monotonic() + PATIENCE
    while not helping.exists() and time.monotonic() < until:
        time.sleep(0.02)
    more: tuple[F32, ...] = ()
    if helping.exists():
        seen = np.load(helping)
        more = np.ascontiguousarray(seen[..., :3]), np.ascontiguousarray(seen[..., 3:])
    out = np.empty_like(picture)
    light = np.ascontiguousarray(np.maximum(picture[..., :3], 0))
    out[..., :3] = pyoidn.denoise(light, *more, hdr=True, clean_aux=bool(more))
    # How much a pixel covers is as noisy where an edge is out of focus.
    cover = np.repeat(np.clip(picture[..., 3:], 0, 1), 3, axis=2)
    out[..., 3] = pyoidn.denoise(np.ascontiguousarray(cover), *more, clean_aux=bool(more))[..., 0]
    return out


def _tell(**words: Any) -> None:
    print(json.dumps(words), flush=True)


def _write(folder: Path, picture: F32, number: int) -> None:
    """Put the picture into one of two files in turn: the other is being read."""
    half = folder / "half.npy"
    np.save(half, picture)
    os.replace(half, folder / f"picture-{number % 2}.npy")


def _scene(mi: Any, folder: Path, words: dict[str, Any]) -> dict[str, Any]:
    """The scene as the tracer's library wants it."""
    out: dict[str, Any] = {
        "type": "scene",
        "integrator": {"type": "path", "max_depth": words["depth"], "hide_emitters": True},
        "sensor": _sensor(mi, words),
    }
    if words["sky"]["lit"]:
        sky = np.load(folder / "sky.npy")
        turn = mi.ScalarTransform4f().rotate([0, 1, 0], words["sky"]["turn"])
        out["sky"] = {"type": "envmap", "bitmap": mi.Bitmap(sky), "to_world": turn}
    for k, lamp in enumerate(words["lamps"]):
        out[f"lamp{k}"] = _emitter(mi, lamp)
    for k, absorbs in enumerate(words["tresses"]):
        out[f"tress{k}"] = {
            "type": "linearcurve",
            "filename": str(folder / f"tress-{k}.txt"),
            "bsdf": {
                "type": "hair",
                "sigma_a": _rgb(absorbs),
                "azimuthal_roughness": 0.3,
                "longitudinal_roughness": 0.35,
            },
        }
    for part in words["parts"]:
        out[f"part{part['key']}"] = _mesh(mi, folder, part)
    return out


def _sensor(mi: Any, words: dict[str, Any]) -> dict[str, Any]:
    camera, (width, height) = words["camera"], words["size"]
    eye, axes = np.array(camera["eye"]), np.array(camera["axes"])
    matrix = np.eye(4)
    # It looks along its z, and its x goes to the left.
    matrix[:3, 0], matrix[:3, 1], matrix[:3, 2], matrix[:3, 3] = -axes[0], axes[1], -axes[2], eye
    out: dict[str, Any] = {
        "to_world": mi.ScalarTransform4f(matrix),
        "near_clip": 0.1,
        "far_clip": 1e7,
        "film": {
            "type": "hdrfilm",
            "width": width,
            "height": height,
            "pixel_format": "rgba",
            "component_format": "float32",
            # What a wider one shares between neighbours, a denoiser takes for detail.
            "filter": {"type": "box"},
        },
        "sampler": {"type": "independent"},
    }
    if camera["orthographic"]:
        half = camera["half_height"]
        scale = mi.ScalarTransform4f().scale([half * width / height, half * width / height, 1.0])
        # From far behind the eye, so that clay beside it is seen as well.
        matrix[:3, 3] = eye + axes[2] * 1e5
        return {**out, "type": "orthographic", "to_world": mi.ScalarTransform4f(matrix) @ scale}
    out |= {"fov": camera["angle"], "fov_axis": "y"}
    if camera["lens"] > 0:
        return {
            **out,
            "type": "thinlens",
            "aperture_radius": camera["lens"],
            "focus_distance": camera["sharp"],
        }
    return {**out, "type": "perspective"}


def _rgb(values: list[float]) -> dict[str, Any]:
    return {"type": "rgb", "value": [float(v) for v in values]}


def _emitter(mi: Any, lamp: dict[str, Any]) -> dict[str, Any]:
    kind = lamp["kind"]
    if kind == "sun":
        return {"type": "directional", "direction": lamp["way"], "irradiance": _rgb(lamp["irradiance"])}
    if kind == "spot":
        place = mi.ScalarTransform4f().look_at(lamp["at"], lamp["aim"], lamp["up"])
        cone = lamp["cone"]
        return {
            "type": "spot",
            "to_world": place,
            "cutoff_angle": cone,
            "beam_width": 0.8 * cone,
            "intensity": _rgb(lamp["intensity"]),
        }
    shines = {"type": "area", "radiance": _rgb(lamp["radiance"])}
    if kind == "sphere":
        return {"type": "sphere", "center": lamp["at"], "radius": lamp["radius"], "emitter": shines}
    return {"type": kind, "to_world": mi.ScalarTransform4f(np.array(lamp["matrix"])), "emitter": shines}


def _mesh(mi: Any, folder: Path, part: dict[str, Any]) -> Any:
    """A part's clay, with what its vertices are made of."""

    def load(name: str) -> Any:
        return np.load(folder / f"{part['key']}-{name}.npy")

    places, faces = load("places"), load("faces")
    made_of: dict[str, Any] = {"type": "principled", "base_color": _by_vertex("vertex_colour")}
    for name, value in (
        ("roughness", "rough"),
        ("metallic", "metal"),
        ("flatness", "deep"),
        ("clearcoat", "wet"),
    ):
        made_of[name] = _by_vertex(f"vertex_{value}")
    made_of["clearcoat_gloss"] = 0.97
    clay: dict[str, Any] = {"type": "twosided", "inside": made_of}
    if part["bends"]:
        # As the view bends it.
        clear = {"type": "dielectric", "int_ior": 1.376, "ext_ior": 1.0}
        clay = {"type": "blendbsdf", "weight": _by_vertex("vertex_opacity"), "clear": clear, "clay": clay}
    elif part["clear"]:
        clay = {"type": "mask", "opacity": _by_vertex("vertex_opacity"), "inside": clay}
    given = mi.Properties()
    given["bsdf"] = mi.load_dict(clay)
    mesh = mi.Mesh(f"part{part['key']}", len(places), len(faces), props=given, has_vertex_normals=True)
    settings = mi.traverse(mesh)
    settings["vertex_positions"] = places.ravel()
    settings["vertex_normals"] = load("normals").ravel()
    settings["faces"] = faces.ravel()
    settings.update()
    mesh.add_attribute("vertex_colour", 3, load("colour").ravel())
    made = load("made")
    for k, name in enumerate(("rough", "metal", "deep", "wet")):
        mesh.add_attribute(f"vertex_{name}", 1, np.ascontiguousarray(made[:, k]))
    if part["clear"]:
        mesh.add_attribute("vertex_opacity", 1, load("opacity"))
    return mesh


def _by_vertex(name: str) -> dict[str, Any]:
    return {"type": "mesh_attribute", "name": name}


if __name__ == "__main__":
    sys.exit(main(Path(sys.argv[1]), int(sys.argv[2])))
