"""A proof outside the usual tests: few samples without their noise against very many, on the painted demo.

``python -m tests.traced [--size 640x400] [--samples 1024] [--light three]``; takes a quarter of an hour.
"""

from __future__ import annotations

import argparse
import sys

import numpy as np
from scipy.ndimage import gaussian_filter

from kneten.core.arrays import F32
from kneten.core.camera import Camera
from kneten.core.light.rigs import RIGS, rig
from kneten.demo.files import demo_project
from kneten.document.look import Look
from kneten.document.scene import Scene
from kneten.render.filming import developed
from kneten.render.handover import Order
from kneten.render.style import Style
from kneten.render.tracing import Tracing

FEW = 16

LEAST_ALIKE = 0.97

MOST_LEFT = 0.25


def traced(scene: Scene, camera: Camera, style: Style, order: Order) -> F32:
    """A picture's light (h, w, 4)."""
    tracing = Tracing(scene, camera, style, order)
    try:
        tracing.begin()
        found = tracing.wait().picture
        assert found is not None
        return found
    finally:
        tracing.end()


def relative_error(found: F32, reference: F32) -> float:
    """The mean over the clay of how far light (h, w, 4) is off, as a share of that of the reference."""
    clay = reference[..., 3] > 0.5
    off = np.abs(found[..., :3] - reference[..., :3]) / (reference[..., :3] + 0.01)
    return float(off[clay].mean())


def structural_similarity(one: F32, other: F32, width: float = 1.5) -> float:
    """How alike grey pictures (h, w) of codes 0 to 1 are in their structure (Wang, 2004): 1 for the same ones."""

    def mean(values: F32) -> F32:
        return np.asarray(gaussian_filter(values.astype(np.float64), width))

    a, b = mean(one), mean(other)
    aa, bb, ab = mean(one * one) - a * a, mean(other * other) - b * b, mean(one * other) - a * b
    c1, c2 = 0.01**2, 0.03**2
    alike = (2 * a * b + c1) * (2 * ab + c2) / ((a * a + b * b + c1) * (aa + bb + c2))
    return float(alike.mean())


def grey(light: F32, camera: Camera, style: Style) -> F32:
    """The picture (h, w) of light (h, w, 4) as it is seen, in grey."""
    return np.asarray(developed(light, camera, style).colours[..., :3].mean(axis=2))


def main(words: list[str]) -> int:
    """Trace, compare, say; 0 when both figures hold."""
    parser = argparse.ArgumentParser(prog="python -m tests.traced", description=__doc__)
    parser.add_argument("--size", default="640x400")
    parser.add_argument("--samples", type=int, default=1024)
    parser.add_argument("--light", default="three", choices=sorted(RIGS))
    parser.add_argument("--demo", default="tarn-painted")
    given = parser.parse_args(words)
    width, height = (int(n) for n in given.size.split("x"))
    scene = demo_project(name=given.demo).scene
    low, high = scene.bounds()
    lamps, around = rig(given.light, low, high)
    scene = scene.with_things("lamps", lamps).with_things("surroundings", (around,))
    # As large in a small picture as it is in a whole screen: finer fibres than pixels are no detail that could be kept.
    camera = Camera(yaw=-24.0, pitch=4.0, angle=24.0).framing(low, high, width / height, 0.52)
    style = Style(look=Look("lit"))
    few = traced(scene, camera, style, Order((width, height), FEW, seed=1, clean=False))
    clean = traced(scene, camera, style, Order((width, height), FEW, seed=1))
    reference = traced(scene, camera, style, Order((width, height), given.samples, seed=2, clean=False))
    noisy, left = relative_error(few, reference), relative_error(clean, reference)
    alike = structural_similarity(grey(clean, camera, style), grey(reference, camera, style))
    before = structural_similarity(grey(few, camera, style), grey(reference, camera, style))
    print(f"relative error of {FEW} samples {noisy:.4f}, without noise {left:.4f}: {left / noisy:.2f} of it")
    print(f"structural similarity {alike:.4f}, with the noise {before:.4f}")
    return 0 if left <= MOST_LEFT * noisy and alike >= LEAST_ALIKE else 1


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
