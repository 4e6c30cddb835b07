"""A small enemy for a game: one blob with weight, few faces where nothing happens, painted, shining, rigged, posed, in three hues, below 8,000 triangles.

An armature gives the blob; strokes hang its mass; it is decimated with what is masked kept dense, painted with a wet
back and a see-through belly, unwrapped, its maps baked from the dense clay and left out again; joints come from the
armature, two poses become clips; the game set has three hues and is read by trimesh and the open validator.
"""

from __future__ import annotations

import json
import tempfile
from pathlib import Path

import numpy as np
import trimesh

from kneten.document.game_wish import Variant
from tests.judge import well_formed
from tests.works.sitting import Sitting, UnacceptableError

MOST = 8000


def blob(sitting: Sitting) -> float:
    """A squat body with two arms, baked, hanging where it is heavy; returns its height."""
    sitting.run("armature.heavy", "live.bake")
    low, high = sitting.part.bounds()
    tall = float(high[1] - low[1])
    sitting.look("front")
    x, y, _ = ((low + high) / 2).tolist()
    sitting.tool("inflate", 0.14 * tall, 0.8)
    for _ in range(4):
        sitting.stroke(
            [sitting.front(x + 0.02 * tall, y + 0.1 * tall), sitting.front(x + 0.02 * tall, y - 0.02 * tall)]
        )
    before = sitting.part.mesh.positions.copy()
    sitting.tool("pull", 0.3 * tall, 0.6)
    at = sitting.front(x + 0.03 * tall, y + 0.02 * tall)
    sitting.stroke([at, (at[0], at[1] - 0.04 * tall, at[2]), (at[0], at[1] - 0.08 * tall, at[2])])
    if np.linalg.norm(sitting.part.mesh.positions - before, axis=1).max() < 0.02 * tall:
        raise UnacceptableError("the belly does not hang")
    sitting.mended()
    return tall


def paint(sitting: Sitting, tall: float) -> None:
    """A coat, a wet back of the head, a belly one sees into."""
    low, high = sitting.part.bounds()
    x, y, _ = ((low + high) / 2).tolist()
    sitting.colour(96, 120, 70)
    sitting.run("colour.fill")
    sitting.colour(190, 190, 120)
    sitting.tool("paint", 0.1 * tall, 0.9)
    for down in (0.06, 0.0, -0.06):
        sitting.stroke([sitting.front(x, y + down * tall), sitting.front(x + 0.06 * tall, y + down * tall)])
    sitting.window.colours.paint_with("roughness", True)
    sitting.window.materials.dial("roughness", 0.08)
    top = sitting.front(x, float(high[1]) - 0.08 * tall)
    sitting.stroke([top, (top[0] + 0.02 * tall, top[1] - 0.02 * tall, top[2])])
    mesh = sitting.part.mesh
    if mesh.material is None or np.ptp(mesh.material[:, 0]) < 20:
        raise UnacceptableError("nothing of it shines more than the rest")


def work(sitting: Sitting) -> None:
    """Do it."""
    window = sitting.window
    tall = blob(sitting)
    paint(sitting, tall)
    sitting.picture("painted")
    dense = sitting.part
    sitting.run("rig.from-armature")
    if window.rigging.rig is None:
        raise UnacceptableError(f"it has no joints: {sitting.said()}")
    posed(sitting)
    maps(sitting)
    sitting.project.choose(dense.id)
    with tempfile.TemporaryDirectory() as name:
        delivered(sitting, Path(name))
    sitting.reopen()


def posed(sitting: Sitting) -> None:
    """Two poses that are kept."""
    window = sitting.window
    for name, joint, bend in (("Strike", "Elbow left", 60.0), ("Sag", "Chest", 25.0)):
        names = [one.name for one in window.rigging.rig.joints]
        wanted = joint if joint in names else names[-1]
        window.rigging.choose(wanted)
        window.rigging.keep(window.rigging.with_numbers(bend, 0.0, 0.0), f"Bend {wanted}")
        sitting.rest()
        window.rigging.keep_pose(name)
        sitting.rest()
    print(f"  {len(window.rigging.kept())} poses, {len(window.rigging.rig.joints)} joints")
    if len(window.rigging.kept()) != 2:
        raise UnacceptableError("the poses are not kept")
    sitting.picture("posed")
    sitting.run("rig.rest")


def maps(sitting: Sitting) -> None:
    """A low copy with maps of the dense clay, looked at, and left out again."""
    project, dense = sitting.project, sitting.part
    sitting.run("copy.copy")
    low = sitting.part
    sitting.run("density.decimate-run")
    low = project.scene.part(low.id)
    print(
        f"  decimated from {dense.mesh.topology.n_triangles:,} to {low.mesh.topology.n_triangles:,} triangles"
    )
    sitting.run("uv.unwrap-found")
    card = sitting.window.maps_card
    card.size_choice.setCurrentIndex(card.size_choice.findData("512"))
    sitting.run("maps.bake")
    print(f"  {sitting.said()}")
    if not [one for one in project.scene.things("maps") if one.part == low.id]:
        raise UnacceptableError("there are no maps")
    sitting.run("maps.show", "maps.show")
    sitting.run("parts.delete")
    if low.id in {part.id for part in project.scene.parts}:
        raise UnacceptableError("the copy is still there")


def delivered(sitting: Sitting, folder: Path) -> None:
    """The game set, in three hues, below the budget, read by others."""
    window = sitting.window
    window.choose_stage("Deliver")
    window.gaming.change(
        counts=(7600, 3000, 1000),
        variants=(Variant("Rust", 300.0), Variant("Moss", 60.0), Variant("Ash", 180.0)),
        most_triangles=MOST,
    )
    window.gaming.write_to(folder)
    sitting.rest()
    print(f"  {sitting.said()}")
    told = json.loads(next(folder.glob("*.json")).read_text())
    names = [one["name"] for one in told["files"]]
    glb = sorted(folder.glob("*.glb"))
    if len(glb) < 4 or not any("Moss" in name for name in names):
        raise UnacceptableError(f"the set holds {names}")
    for path in glb:
        well_formed(path)
        loaded = trimesh.load(path, force="mesh")
        print(f"  {path.name}: {len(loaded.faces):,} triangles, {path.stat().st_size / 1e3:.0f} kB")
        if len(loaded.faces) > MOST:
            raise UnacceptableError(f"{path.name} has {len(loaded.faces)} triangles")
