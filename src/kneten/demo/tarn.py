"""Tarn, the old otter-troll who rows the ferry: his head in first clay.

Run `python -m kneten.demo.tarn OUT.kneten` to make the project that ships with Kneten.
"""

from __future__ import annotations

import sys
from pathlib import Path

from kneten.core.arrays import Progress
from kneten.core.camera import Camera
from kneten.core.mesh import Mesh
from kneten.core.primitives import ball
from kneten.core.remesh import forecast, remesh, soup_of
from kneten.core.transform import Transform
from kneten.demo.sculptor import FRONT, Sculptor
from kneten.document.blocking import placed
from kneten.document.project import Project
from kneten.document.project_file import save_project
from kneten.document.scene import Part
from kneten.render.still import encoded, render_still

CAMERA = Camera(target=(0.0, -22.0, 20.0), distance=680.0, yaw=28.0, pitch=6.0)

EYE = (39.0, 26.0, 80.0)
EYE_RADIUS = 16.0

Point = tuple[float, float, float]


def _picture(project: Project) -> bytes:
    return encoded(render_still(project.scene, CAMERA, 208, 130))


def block(hand: Sculptor) -> None:
    """Balls for the big masses."""
    hand.ball("Skull", (0, 22, 0), (88, 80, 92))
    hand.ball("Muzzle", (0, -22, 74), (56, 36, 48))
    hand.pair("Whisker pad", (25, -24, 103), (31, 25, 26))
    hand.ball("Nose", (0, 4, 120), (31, 19, 19))
    hand.ball("Bridge", (0, 24, 84), (27, 24, 44))
    hand.ball("Chin", (0, -56, 78), (36, 20, 34))
    hand.pair("Cheek", (60, -22, 38), (42, 44, 46))
    hand.pair("Brow", (37, 52, 72), (37, 15, 24))
    hand.pair("Lid", EYE, (21.5, 20.0, 20.5))
    hand.pair("Ear", (84, 66, -12), (23, 26, 13))
    hand.ball("Neck", (0, -82, -16), (80, 82, 72))
    hand.ball("Hump", (0, -92, -68), (86, 66, 56))
    hand.ball("Shoulders", (0, -142, -26), (118, 46, 80))


def fuse(project: Project, name: str, vertices: int) -> None:
    """Join all parts into one even body."""
    soup = soup_of(placed(project.scene.parts))
    mesh = remesh(soup, forecast(soup.positions, soup.triangles, vertices=vertices).edge, Progress())
    body = Part(name, mesh)
    project.change("Fuse all parts", project.scene.with_parts((body,)))
    project.choose(body.id)


def densify(project: Project, vertices: int) -> None:
    """Remesh the part in hand."""
    part = project.active
    assert part is not None
    faces = part.mesh.topology.faces
    edge = forecast(part.mesh.positions, faces, vertices=vertices).edge
    mesh = remesh(soup_of([part.mesh]), edge, Progress())
    project.replace_mesh(part.id, mesh, f"Remesh {part.name}")


def blend(hand: Sculptor) -> None:
    """Smooth the seams between the balls, and find the big turns of the form."""
    side = (-1.0, 0.0, 0.0)
    below = (0.0, 0.8, -0.6)
    above = (0.0, -0.8, -0.6)
    for line, radius, view in (
        ([(0, 95, 60), (40, 90, 40), (75, 70, 10)], 30.0, above),
        ([(8, 70, 80), (40, 72, 70), (78, 58, 40)], 22.0, FRONT),
        ([(85, 30, 60), (88, 0, 50), (92, -40, 30)], 30.0, FRONT),
        ([(24, 0, 100), (50, -4, 85), (78, 4, 60)], 16.0, FRONT),
        ([(45, -10, 90), (56, -30, 80), (50, -52, 70)], 18.0, FRONT),
        ([(0, -44, 110), (30, -48, 100), (48, -50, 80)], 11.0, FRONT),
        ([(0, -80, 80), (30, -78, 70), (70, -66, 40)], 26.0, FRONT),
        ([(0, -110, 60), (40, -105, 60), (85, -100, 30)], 30.0, FRONT),
        ([(0, -62, 80), (0, -95, 60)], 26.0, below),
        ([(100, 90, 10), (100, 60, 0), (100, 40, 0)], 16.0, side),
        ([(100, -20, -30), (100, -70, -20), (110, -110, -20)], 34.0, side),
        ([(100, 60, -60), (100, -10, -80), (100, -60, -90)], 40.0, side),
    ):
        hand.stroke("smooth", line, radius, 0.75, view=view, taper=False, times=2)
    for line in ([(0, 60, -100), (30, 0, -120), (60, -60, -120)], [(0, -60, -120), (60, -90, -120)]):
        hand.stroke("smooth", line, 42.0, 0.8, view=(0, 0, 1), taper=False, times=2)


def forms(hand: Sculptor) -> None:
    """Sockets, brow, cheekbones, muzzle, ears: forms before detail."""
    # Sockets, under a heavy brow that hangs to the outside.
    socket: list[Point] = [(17, 24, 110), (20, 12, 108), (38, 2, 100), (58, 8, 84)]
    hand.stroke("raise", socket, 11, 0.6, reverse=True, times=2)
    hand.stroke("pellet", [(8, 48, 100), (30, 53, 100), (54, 50, 90), (70, 36, 76)], 14, 0.6, times=2)
    hand.stroke("raise", [(12, 46, 104), (34, 49, 102), (58, 45, 90)], 10, 0.4)
    hand.stroke("raise", [(0, 56, 98), (0, 68, 96)], 15, 0.3, reverse=True)
    # Cheekbones and the hollow beneath them.
    hand.stroke("pellet", [(38, 2, 90), (58, 2, 80), (80, 10, 60)], 16, 0.55)
    hand.stroke("raise", [(66, -8, 80), (86, -2, 50)], 20, 0.35)
    hand.stroke("raise", [(52, -40, 80), (70, -50, 60)], 18, 0.4, reverse=True)
    # The bridge of the nose, broad and flat.
    hand.stroke("flatten", [(0, 44, 110), (0, 22, 120)], 17, 0.6, view=(0, -0.5, -1), times=2)
    hand.stroke("raise", [(22, 26, 110), (24, 8, 120)], 10, 0.35, reverse=True)
    # Whisker pads, and the wings of the nose.
    hand.stroke("inflate", [(22, -22, 120), (34, -24, 115)], 22, 0.4)
    hand.stroke("pellet", [(20, 2, 130), (27, 4, 124)], 10, 0.6)
    # Under lip and chin.
    hand.stroke("pellet", [(0, -50, 115), (18, -51, 110), (30, -50, 96)], 11, 0.5)
    hand.stroke("raise", [(0, -62, 110), (12, -63, 106)], 13, 0.4)
    # Bags under the eyes.
    hand.stroke("pellet", [(26, 10, 98), (40, 6, 94), (54, 12, 84)], 8, 0.55)
    # Ears: a bowl with a rolled rim.
    hand.stroke("raise", [(86, 66, 10)], 17, 0.9, reverse=True, taper=False, times=4)
    hand.stroke("raise", [(84, 70, 10), (88, 62, 10)], 13, 0.8, reverse=True, taper=False, times=3)
    hand.pull((94, 80, 0), (5, 5, 3), 18)
    # Neck cords and the hump.
    side = (-1.0, 0.0, -0.4)
    hand.stroke("raise", [(90, -50, 20), (70, -95, 40), (24, -128, 60)], 15, 0.55, view=FRONT)
    hand.stroke("raise", [(70, -70, 60), (40, -110, 70)], 15, 0.4, reverse=True)
    hand.stroke("inflate", [(100, -80, -60), (100, -110, -70)], 40, 0.3, view=side)


def creases(hand: Sculptor) -> None:
    """Lines that carry the character: mouth, nostrils, lids, wrinkles."""
    # The mouth, turned down at the corners, and the split below the nose.
    mouth = [(0, -39, 130), (16, -42, 126), (34, -45, 114), (50, -49, 94), (58, -58, 84)]
    hand.stroke("score", mouth, 9, 0.85, times=2)
    hand.stroke("score", [(0, -8, 140), (0, -22, 138), (0, -38, 130)], 8, 0.8)
    hand.stroke("raise", [(14, -36, 128), (34, -38, 116), (50, -42, 96)], 7, 0.4)
    # Nostrils.
    hand.stroke("raise", [(13, 0, 140), (19, 3, 136)], 6.5, 1.0, reverse=True, taper=False, times=3)
    hand.stroke("score", [(12, -3, 140), (20, -3, 136), (26, 3, 130)], 6, 0.8)
    # The nose set off from the bridge and the pads.
    hand.stroke("score", [(0, 20, 134), (14, 20, 130), (26, 14, 124), (32, 4, 118)], 7, 0.6)
    hand.stroke("score", [(32, 3, 118), (24, -8, 128), (8, -10, 136)], 7, 0.7)
    # Upper and lower lid around the eye.
    ex, ey, _ = EYE
    upper: list[Point] = [
        (ex - 17, ey - 4, 100),
        (ex - 8, ey + 8, 100),
        (ex + 5, ey + 9, 98),
        (ex + 17, ey - 1, 90),
    ]
    lower: list[Point] = [
        (ex - 17, ey - 5, 100),
        (ex - 6, ey - 12, 100),
        (ex + 6, ey - 12, 96),
        (ex + 16, ey - 4, 90),
    ]
    slit: list[Point] = [(ex - 13, ey - 3, 110), (ex, ey - 0.5, 110), (ex + 13, ey - 2.5, 100)]
    hand.stroke("raise", slit, 7.5, 1.0, reverse=True, falloff="flat", times=4)
    hand.stroke("raise", slit, 5.5, 1.0, reverse=True, falloff="flat", times=3)
    hand.stroke("pellet", upper, 4.5, 0.6)
    hand.stroke("pellet", lower, 4.5, 0.5)
    hand.stroke("score", [(x, y + 5.5, z) for x, y, z in upper], 5, 0.55)
    hand.stroke("score", [(x + 1, y - 6, z) for x, y, z in lower], 6, 0.5)
    # Crow's feet, bags, brow folds.
    for dy in (-6.0, 1.0, 8.0):
        hand.stroke("score", [(ex + 22, ey - 2 + dy * 0.6, 90), (ex + 34, ey + dy * 1.6, 70)], 4.5, 0.5)
    hand.stroke("score", [(22, 2, 100), (38, -4, 92), (56, 2, 84)], 6, 0.5)
    hand.stroke("score", [(6, 42, 112), (8, 56, 104)], 7, 0.6)
    for y, s in ((66.0, 0.5), (76.0, 0.45), (86.0, 0.35)):
        hand.stroke("score", [(0, y, 90), (22, y + 4, 88), (46, y + 1, 76), (60, y - 8, 64)], 6.5, s)
    # From the nose past the mouth, and folds on the neck.
    hand.stroke("score", [(34, 0, 112), (52, -14, 100), (62, -36, 84), (62, -54, 76)], 9, 0.55)
    for y in (-84.0, -98.0):
        hand.stroke("score", [(0, y, 90), (36, y + 4, 70), (66, y + 16, 50)], 9, 0.45)
    # Whisker follicles in three rows.
    for row in range(3):
        for column in range(4):
            x, y = 16.0 + 8.0 * column, -17.0 - 6.5 * row - 0.8 * column
            hand.stroke("raise", [(x, y, 130)], 2.6, 1.0, reverse=True, taper=False, times=3)
    hand.stroke("pinch", [(10, 40, 106), (34, 43, 104), (58, 38, 92)], 9, 0.5)
    hand.stroke("pinch", mouth, 7, 0.35)
    # The bust's rim, even and calm.
    for y in (-128.0, -150.0, -168.0):
        rim = [(0, y, 90), (50, y, 70), (90, y + 4, 30), (112, y + 8, 0)]
        hand.stroke("smooth", rim, 34, 0.8, taper=False)
        hand.stroke("smooth", [(200, y + 8, 20), (200, y + 8, -60)], 34, 0.8, view=(-1, 0, 0), taper=False)


def eyes(project: Project) -> None:
    """Two balls, parts of their own."""
    head = project.active
    pieces = []
    for name, sign in (("Eye right", -1.0), ("Eye left", 1.0)):
        mesh = Mesh.from_faces(*ball(EYE_RADIUS, 32))
        x, y, z = EYE
        pieces.append((name, mesh, Transform((sign * x, y, z))))
    project.add_meshes("Add the eyes", pieces)
    project.choose(head.id if head else None)


def make(progress: Progress | None = None) -> Project:
    """The whole project, with milestones on the way."""
    progress = progress or Progress()
    project = Project()
    project.change_settings(symmetry=(True, False, False))
    project.change_settings(camera=CAMERA)
    hand = Sculptor(project)
    block(hand)
    progress.report(0.1, "Fusing")
    fuse(project, "Tarn", 24_000)
    project.keep_milestone("Balls fused", _picture(project))
    blend(hand)
    progress.report(0.3, "Finding the forms")
    densify(project, 60_000)
    forms(hand)
    densify(project, 150_000)
    progress.report(0.6, "Creases")
    creases(hand)
    eyes(project)
    project.history.clear()
    project.unsaved = False
    return project


if __name__ == "__main__":
    made = make()
    target = Path(sys.argv[1])
    picture = encoded(render_still(made.scene, CAMERA, 480, 300))
    save_project(made, target, picture, small=True)
