"""A costume, blocked out: plates peeled from guides and outlines, one side mirrored, a strap, a row of bolts.

On a baked body: a breastplate from inside a guide drawn on the front, a shoulder plate on one side peeled from an outline
and mirrored, boots, a helmet cut open for the face, a strap of rectangular profile laid on the clay round the waist,
bolts in a row along the breastplate's guide, linked.
"""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import Qt

from kneten.app.benches.block.dialogs import ArrayDialog
from kneten.core.live.strand import Strands
from kneten.core.solid import volume
from kneten.document import rows
from kneten.document.scene import Part
from tests.app.windows import settle
from tests.works.sitting import Sitting, UnacceptableError


def ring(middle: tuple[float, float], wide: float, high: float) -> list[tuple[float, float]]:
    """An oval drawn in pixels, ending where it begins."""
    return [
        (middle[0] + wide * float(np.cos(t)), middle[1] + high * float(np.sin(t)))
        for t in np.linspace(0, 2 * np.pi, 40)
    ]


def work(sitting: Sitting) -> None:
    """Do it."""
    window, project = sitting.window, sitting.project
    sitting.run("armature.heavy")
    window.view.take_mode(None)
    sitting.run("live.bake")
    body = sitting.part
    window.studio.remesh_active(None, 120_000)
    window.studio.wait(120)
    settle(window)
    low, high = sitting.part.bounds()
    tall = float(high[1] - low[1])
    sitting.look("front")
    # The breastplate: a guide round the chest, what lies inside it peeled.
    chest = sitting.at(0.0, low[1] + 0.67 * tall, high[2])
    pixels = abs(sitting.at(0.0, low[1] + tall, 0.0)[1] - sitting.at(0.0, low[1], 0.0)[1]) / tall
    sitting.run("guide.draw")
    sitting.drag(ring(chest, 0.1 * tall * pixels, 0.075 * tall * pixels))
    window.view.take_mode(None)
    if not project.scene.guides or not project.scene.guides[0].closed:
        raise UnacceptableError("the guide on the chest is not closed")
    window.peel_card.thickness.set_value(0.012 * tall)
    window.peel_card.smooth.set_value(16)
    sitting.run("guide.peel")
    plate = sitting.part
    if plate.id == body.id:
        raise UnacceptableError(f"no breastplate: {sitting.said()}")
    sitting.judge(plate)
    # A shoulder plate on one side alone, mirrored.
    project.choose(body.id)
    if project.settings.symmetry[0]:
        sitting.run("form.symmetry-x")
    sitting.run("mask.lasso")
    shoulder = sitting.at(0.14 * tall, low[1] + 0.86 * tall, 0.0)
    sitting.drag(ring(shoulder, 0.05 * tall * pixels, 0.045 * tall * pixels))
    window.view.take_mode(None)
    sitting.run("mask.peel")
    cap = sitting.part
    if cap.id == body.id:
        raise UnacceptableError(f"no shoulder plate: {sitting.said()}")
    sitting.judge(cap, pieces=len(pieces_of(sitting)))
    sitting.run("copy.mirror-x")
    sitting.judge(sitting.part, pieces=len(pieces_of(sitting)))
    project.choose(body.id)
    sitting.run("mask.clear")
    sitting.picture("plates")
    # Boots and a helmet over what a rectangle takes in; the helmet opens for the face.
    boots = shell_over(
        sitting, body, "boots", (-0.3 * tall, low[1] - 0.05 * tall), (0.3 * tall, low[1] + 0.09 * tall)
    )
    sitting.judge(boots, pieces=len(pieces_of(sitting)))
    helmet = shell_over(
        sitting, body, "helmet", (-0.2 * tall, low[1] + 0.9 * tall), (0.2 * tall, high[1] + 0.05 * tall)
    )
    sitting.judge(helmet, pieces=len(pieces_of(sitting)))
    faces = volume(helmet.mesh)
    sitting.run("cut.rectangle")
    sitting.drag(
        [
            sitting.at(-0.03 * tall, low[1] + 0.965 * tall, high[2]),
            sitting.at(0.03 * tall, low[1] + 0.935 * tall, high[2]),
        ],
        keys=Qt.KeyboardModifier.ShiftModifier,
    )
    window.view.take_mode(None)
    if not 0.8 * faces < volume(sitting.part.mesh) < 0.999 * faces:
        raise UnacceptableError(f"the helmet has no opening: {sitting.said()}")
    cut = sitting.part
    window.studio.remesh_active(0.003 * tall, None)
    window.studio.wait(60)
    settle(window)
    if sitting.part.mesh_id == cut.mesh_id:
        # Its rim is as thin as the clay was left there: told, and taken as it is.
        sitting.answer("Remesh all the same")
    sitting.judge(sitting.part, pieces=len(pieces_of(sitting)))
    project.choose(body.id)
    sitting.run("mask.clear")
    # A strap round the waist that lies on the clay between its points.
    window.studio.preferences.strand_thickness = 0.012 * tall
    window.studio.preferences.strand_taper = "none"
    sitting.run("strand.surface")
    y = low[1] + 0.5 * tall
    sitting.stroke([(x * tall, y + 0.01 * tall * np.cos(20 * x), 0.0) for x in (-0.1, -0.05, 0.0, 0.05, 0.1)])
    window.view.take_mode(None)
    strap = sitting.part
    if not isinstance(strap.recipe, Strands) or not strap.recipe.strands[0].laid:
        raise UnacceptableError("the strap does not lie on the clay")
    sitting.judge(strap)
    # Bolts along the breastplate's guide, standing up from the clay.
    sitting.run("live.sphere")
    sitting.number("Size x", 0.034 * tall, "Place")
    bolt = sitting.part
    courses = rows.courses(project.scene, [bolt.id])
    dialog = ArrayDialog(window, [project.scene.part(bolt.id)], courses)
    dialog.way.setCurrentIndex(2)
    dialog.count.set_value(14)
    dialog.linked.setChecked(True)
    before = len(project.scene.parts)
    dialog.make(project)
    dialog.deleteLater()
    settle(window)
    if len(project.scene.parts) != before + 13:
        raise UnacceptableError(f"{len(project.scene.parts) - before} bolts came")
    sitting.look("front", perspective=True)
    sitting.picture("costume")


def shell_over(
    sitting: Sitting, body: Part, name: str, low: tuple[float, float], high: tuple[float, float]
) -> Part:
    """A shell over what of the body lies in a rectangle of the picture."""
    sitting.project.choose(body.id)
    sitting.run("mask.clear", "mask.rectangle")
    sitting.drag([sitting.at(*low, 0.0), sitting.at(*high, 0.0)])
    sitting.window.view.take_mode(None)
    sitting.run("mask.peel")
    if sitting.part.id == body.id:
        raise UnacceptableError(f"no {name}: {sitting.said()}")
    sitting.project.rename(sitting.part.id, name)
    return sitting.part


def pieces_of(sitting: Sitting) -> list[object]:
    """What the part in hand falls into: a sleeve seen from the front has a front and a back."""
    from tests.judge import judged

    return list(judged(sitting.part.mesh).split(only_watertight=False))
