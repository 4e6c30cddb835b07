"""Takes the pictures of `docs/screenshots/` from the demo: `python -m tests.screenshots` on a screen.

`python -m tests.screenshots surface` takes those of the surface only, `colour` those of colour, `show` that of light, `net` that of quads, `perform` that of poses, `deliver` that of prints. Those of a late revision (carry, compare) come from `python -m tests.case docs/screenshots`.

They are made from the demo data in a real window, so that the README shows what one gets.
"""

from __future__ import annotations

import os
import sys
import tempfile
import time
from dataclasses import replace
from pathlib import Path

from PIL import Image

from kneten.app.start.main import prepare_graphics

FOLDER = Path(__file__).parents[1] / "docs" / "screenshots"


def main() -> None:
    """Open windows, arrange them, grab them from the screen."""
    os.environ["KNETEN_STATE"] = os.environ["KNETEN_CONFIG"] = tempfile.mkdtemp()
    prepare_graphics()
    from PySide6.QtCore import QEvent, QPointF, Qt
    from PySide6.QtGui import QMouseEvent
    from PySide6.QtWidgets import QApplication

    from kneten.app.fields.theme import load_fonts
    from kneten.app.shell.window import Window
    from kneten.app.work.preferences import Preferences
    from kneten.document.project import Project

    app = QApplication(sys.argv[:1])
    load_fonts()
    window = Window(Preferences())
    window.resize(1280, 800)
    window.show()
    window.prepare()

    def settle(seconds: float = 0.6) -> None:
        window.studio.wait()
        end = time.monotonic() + seconds
        while time.monotonic() < end or not window.view.resting:
            app.processEvents()
            time.sleep(0.003)

    def hover(x: float, y: float) -> None:
        at, view = QPointF(x, y), window.view
        none = Qt.MouseButton.NoButton
        keys = Qt.KeyboardModifier.NoModifier
        move = QMouseEvent(QEvent.Type.MouseMove, at, view.mapToGlobal(at), none, none, keys)
        app.sendEvent(view, move)

    def grab(name: str) -> None:
        settle()
        for notice in list(window.notices.notices):
            # Those that say what was done are not what a picture is about; those with actions are.
            if notice.kind == "info":
                notice.leave()
        settle()
        app.primaryScreen().grabWindow(window.winId()).save(str(FOLDER / f"{name}.png"))

    while not window.studio.all_ready:
        app.processEvents()
    alone = {
        "surface": surface,
        "colour": colour,
        "show": show,
        "perform": perform,
        "net": net,
        "deliver": deliver,
    }
    if len(sys.argv) == 2 and sys.argv[1] in alone:
        alone[sys.argv[1]](window, grab, settle, hover)
        window.studio.project.unsaved = False
        window.close()
        return
    window.studio.take(Project.with_ball())
    window.views.frame_all()
    settle()
    density(window, grab, settle, hover)
    window.studio.project.unsaved = False
    window.files.open_demo("tarn-forms")
    settle()
    window.choose_stage("Form")
    window.choose_tool("pellet")
    hover(430, 190)
    grab("form")
    for notice in list(window.notices.notices):
        notice.leave()
    window.side.bring("Tool")
    window.choose_stage("Form")
    window.choose_tool("score")
    window.side.bring("View")
    window.tool_card.head.setChecked(False)
    window.studio.set_look(kind="clay", floor=False)
    forming(window, grab, settle)
    window.studio.project.unsaved = False
    net(window, grab, settle, hover)
    window.studio.project.unsaved = False
    surface(window, grab, settle, hover)
    window.studio.project.unsaved = False
    colour(window, grab, settle, hover)
    show(window, grab, settle, hover)
    window.studio.project.unsaved = False
    perform(window, grab, settle, hover)
    window.studio.project.unsaved = False
    deliver(window, grab, settle, hover)
    window.studio.project.unsaved = False
    blocking(window, grab, settle)
    window.studio.project.unsaved = False
    window.close()


def density(window, grab, settle, hover) -> None:  # type: ignore[no-untyped-def]
    """A horn teased out of a ball with live density, its mesh seen."""
    from tests.app.windows import drag, middle

    for name in ("Stroke", "Levels", "Layers", "Symmetry", "Mask", "Regions", "Peel", "Deform", "View"):
        window.cards[name].head.setChecked(False)
    window.side.bring("Density")
    window.registry.run("density.live")
    x, y = middle(window)
    window.choose_tool("tease")
    window.studio.set_brush(size=62, strength=0.45)
    drag(window, [(x + 80, y - 130), (x + 150, y - 190), (x + 165, y - 250)])
    window.choose_tool("pellet")
    window.studio.set_brush(size=34, strength=0.8)
    drag(window, [(x + 20, y + 10), (x + 70, y - 20), (x + 130, y + 20)])
    window.registry.run("look.wires")
    pivot = window.view.point_under(x + 60, y - 60)
    window.view.set_camera(window.view.camera.zoomed(0.62, pivot))
    settle()
    hover(x + 70, y + 40)
    grab("density")
    window.registry.run("look.wires")
    window.cards["Density"].head.setChecked(False)


def forming(window, grab, settle) -> None:  # type: ignore[no-untyped-def]
    """Regions."""
    import numpy as np

    from kneten.core.geodesic import distances, from_place
    from kneten.core.picking import pick
    from kneten.document.regions import make_region, rename_region

    project = window.studio.project
    part = max(project.scene.parts, key=lambda p: p.mesh.n_vertices)
    project.choose(part.id)
    window.studio.set_look(kind="clay", floor=False)
    window.choose_stage("Form")
    window.views.look_from("front")
    window.views.frame_all()
    shown = ("Tool", "Stroke", "Levels", "Layers", "Symmetry", "Mask", "Regions", "Peel", "Deform")

    def unfold(*names: str) -> None:
        for name in ("Parts", "View", "Density", "Place", "Proportion", "Live part", *shown):
            window.cards[name].head.setChecked(name in names)

    mesh = part.mesh

    def field(x: float, y: float) -> np.ndarray:
        hit = pick(mesh, np.array([x, y, 900.0]), np.array([0.0, 0.0, -1.0]))
        assert hit is not None
        return distances(mesh, *from_place(mesh, hit.face, hit.point))

    high = float(mesh.bounds()[1][1] - mesh.bounds()[0][1])
    low = float(mesh.bounds()[0][1])
    unfold("Mask", "Regions")
    faces = mesh.topology.faces
    for name, at, reach in (("Neck", 0.16, 0.26), ("Muzzle", 0.47, 0.17), ("Nose", 0.6, 0.075)):
        near = field(0.0, low + at * high) < reach * high
        rename_region(project, make_region(project, part, near[np.maximum(faces, 0)].all(axis=1)), name)
    window.studio.set_look(kind="clay")


def net(window, grab, settle, hover) -> None:  # type: ignore[no-untyped-def]
    """Tarn's head laid flat, with squares by its UVs; below its quads, its maps beside the clay, a net drawn round his mouth."""
    import numpy as np
    from PySide6.QtCore import QEvent

    from kneten.core.camera import Camera
    from tests.app.windows import LEFT, NONE, send

    window.files.open_demo("tarn-clean")
    window.studio.wait(240)
    settle()
    window.choose_stage("Net")
    part = next(one for one in window.studio.project.scene.parts if one.name == "Tarn, clean")
    window.studio.project.choose(part.id)
    window.studio.set_look(kind="clay", floor=False)
    for title in ("Quads", "Net"):
        window.cards[title].head.setChecked(False)
    low, high = part.bounds()
    low[1] += 60.0

    def framed() -> None:
        size = (window.view.width(), window.view.height())
        camera = replace(window.view.camera, yaw=-18.0, pitch=3.0)
        window.view.set_camera(camera.framing(low, high, size[0] / size[1], 1.0))

    window.registry.run("uv.pane")
    settle()
    framed()
    window.registry.run("uv.checker")
    grab("net")
    below = []
    window.registry.run("uv.checker")
    window.registry.run("uv.pane")
    settle()
    framed()
    window.quads_card.symmetric.setChecked(True)
    window.studio.set_look(wires=True)
    below.append(middle_of_view(window, settle))
    window.studio.set_look(wires=False)
    window.registry.run("maps.show")
    window.registry.run("maps.compare")
    window.studio.wait(120)
    below.append(middle_of_view(window, settle))
    window.registry.run("maps.compare")
    window.studio.project.unsaved = False
    window.files.open_demo("tarn-forms")
    window.studio.wait(240)
    settle()
    window.studio.project.change_settings(symmetry=(False, False, False))
    window.view.set_camera(Camera(target=(0.0, -40.0, 60.0), distance=420.0, yaw=0.0, pitch=0.0))
    window.registry.run("net.strip")
    window.net_card.width_field.set_value(9)
    window.net_card.laid.setChecked(True)
    settle()
    for wide, tall in ((36.0, 10.0), (46.0, 20.0)):
        turn = np.linspace(0, 2 * np.pi, 48)
        ring = np.stack([wide * np.cos(turn), -47.0 + tall * np.sin(turn), np.full(48, 110.0)], axis=1)
        at = window.view.camera.project(ring, window.view.wide, window.view.high)[:, :2].tolist()
        send(window, QEvent.Type.MouseButtonPress, *at[0], LEFT, NONE)
        for x, y in at[1:]:
            send(window, QEvent.Type.MouseMove, x, y, LEFT, NONE)
        send(window, QEvent.Type.MouseButtonRelease, *at[-1], LEFT, NONE)
        settle()
    below.append(middle_of_view(window, settle))
    with Image.open(FOLDER / "net.png") as file:
        above = file.convert("RGB")
    stacked(above, below).save(FOLDER / "net.png")
    window.view.take_mode(None)
    window.studio.project.unsaved = False


def stacked(above: Image.Image, below: list[Image.Image]) -> Image.Image:
    """A picture of the window with smaller ones in a row below it."""
    whole = Image.new("RGB", (above.width, above.height + below[0].height), (20, 20, 20))
    whole.paste(above)
    for k, one in enumerate(below):
        whole.paste(one, (k * (one.width + 2), above.height + 2))
    return whole


def middle_of_view(window, settle, wide: int = 425, high: int = 400) -> Image.Image:  # type: ignore[no-untyped-def]
    """What the middle of the view shows, without notices."""
    from PySide6.QtCore import QPoint
    from PySide6.QtWidgets import QApplication

    settle(2.0)
    for notice in list(window.notices.notices):
        notice.leave()
    settle()
    shot = QApplication.primaryScreen().grabWindow(window.winId())
    shot.save(str(FOLDER / "part.png"))
    corner = window.view.mapTo(window, window.view.rect().center()) - QPoint(wide // 2, high // 2)
    with Image.open(FOLDER / "part.png") as file:
        part = file.convert("RGB").crop((corner.x(), corner.y(), corner.x() + wide, corner.y() + high))
    (FOLDER / "part.png").unlink()
    return part


def surface(window, grab, settle, hover) -> None:  # type: ignore[no-untyped-def]
    """Tarn's skin at close range, the shelf open on it, his fur combed; scales on clay that has none of that."""
    from PySide6.QtWidgets import QApplication

    from kneten.core.camera import Camera
    from tests.app.windows import drag

    def rest(seconds: float = 2.0) -> None:
        window.studio.wait(120)
        settle(seconds)

    def with_cards(*names: str) -> None:
        for name, card in window.cards.items():
            card.head.setChecked(name in names)

    window.files.open_demo("tarn-skin")
    rest(4.0)
    studio = window.studio
    part = max(studio.project.scene.parts, key=lambda p: p.mesh.n_vertices)
    studio.project.choose(part.id)
    window.choose_stage("Surface")
    with_cards("Tip", "Layers")
    window.choose_tool("press")
    studio.presses.made("pores-two")
    window.presses.choose("pores-two")
    studio.set_brush(size=40.0, kind="scattered")
    window.view.set_camera(Camera(target=(34.0, 6.0, 95.0), distance=230.0, yaw=30.0, pitch=3.0))
    rest(4.0)
    x, y = window.view.width() / 2, window.view.height() / 2
    hover(x + 150, y + 60)
    grab("surface")
    window.press_panel.open()
    rest()
    grab("presses")
    window.press_panel.leave()
    with_cards("Fur", "Layers")
    window.furs.choose(next(fur.id for fur in studio.project.scene.things("furs") if fur.name == "Hump"))
    window.view.set_camera(Camera(target=(0.0, -60.0, 0.0), distance=690.0, yaw=128.0, pitch=12.0))
    rest()
    window.registry.run("fur.comb")
    drag(window, [(x - 10, y + 40), (x + 40, y + 130)])
    QApplication.processEvents()
    rest()
    hover(x + 50, y + 120)
    grab("fur")
    window.view.take_mode(None)
    studio.project.unsaved = False
    window.files.open_demo("tarn-forms")
    rest()
    part = max(studio.project.scene.parts, key=lambda p: p.mesh.n_vertices)
    studio.project.choose(part.id)
    for _ in range(2):
        window.registry.run("density.subdivide")
        settle()
    coat(window, part, settle)
    x, y = window.view.width() / 2, window.view.height() / 2
    hover(x - 150, y + 60)
    grab("scatter")


def show(window, grab, settle, hover) -> None:  # type: ignore[no-untyped-def]
    """*Tarn at the ferry* through the camera of the night, its lantern in hand."""
    window.files.open_demo("ferry")
    window.studio.wait(240)
    settle(3.0)
    window.choose_stage("Show")
    window.lights.choose(window.lights.all[0].id)
    for key, card in window.cards.items():
        card.head.setChecked(key in ("Light", "Surroundings"))
    window.lights.drag()
    settle(6.0)
    for notice in list(window.notices.notices):
        notice.leave()
    hover(600, 500)
    grab("show")
    window.view.take_mode(None)
    window.studio.project.unsaved = False


def deliver(window, grab, settle, hover) -> None:  # type: ignore[no-untyped-def]
    """Pim for the printer: one body on a base with his name, a layer of it; below his walls, his overhangs, cut apart."""
    import numpy as np

    from kneten.document.scene import Scene

    window.files.open_demo("pim")
    window.studio.wait(240)
    settle(1.0)
    project = window.studio.project
    window.choose_stage("Deliver")
    for name, card in window.cards.items():
        card.head.setChecked(name == "Print")
    for part in project.scene.parts:
        if part.name not in ("Pim", "Eye left", "Eye right"):
            project.show(part.id, False)
    window.printing.change(sizing="height", height=75.0, title="Pim", fine=192, base="round", thinnest=1.5)

    def do(key: str) -> None:
        window.registry.run(key)
        window.studio.wait(300)
        settle(0.5)

    do("print.body")
    do("print.base")
    project.choose(next(one.id for one in project.scene.parts if one.name == "Print body"))
    size = (window.view.width(), window.view.height())
    camera = replace(window.view.camera, yaw=28.0, pitch=16.0)
    shown = [part for part in project.scene.parts if part.visible]
    low, high = Scene(tuple(shown)).bounds()
    window.view.set_camera(camera.framing(low, high, size[0] / size[1], 1.05))
    below = []
    for key in ("print.thin", "print.overhang"):
        # Where he is slim shows only against more than a printer needs.
        window.printing.change(thinnest=14.0 if key == "print.thin" else 1.5)
        do(key)
        below.append(middle_of_view(window, settle))
        do(key)
    do("print.cut")
    for part in project.scene.parts:
        if part.name.endswith("above"):
            project.place(part.id, part.transform.moved(np.array([0.0, 0.22 * float((high - low)[1]), 0.0])))
    settle(1.0)
    window.view.set_camera(
        camera.framing(low, high + np.array([0, 0.2 * (high - low)[1], 0]), size[0] / size[1], 1.05)
    )
    below.append(middle_of_view(window, settle))
    window.registry.run("edit.undo")
    window.registry.run("edit.undo")
    window.view.set_camera(camera.framing(low, high, size[0] / size[1], 1.05))
    do("print.check")
    window.printing.show_layer(int(len(window.printing.heights()) * 0.55))
    settle(0.5)
    grab("deliver")
    with Image.open(FOLDER / "deliver.png") as above:
        stacked(above.convert("RGB"), below).save(FOLDER / "deliver.png")


def perform(window, grab, settle, hover) -> None:  # type: ignore[no-untyped-def]
    """Widow Sedge bows: her neck in hand with three hinges, all she wears on her head with her; her rig in the light theme."""
    from dataclasses import replace

    import numpy as np

    from kneten.app.fields.theme import THEMES
    from tests.app.windows import drag

    window.files.open_demo("widow-sedge")
    window.studio.wait(120)
    settle(2.0)
    window.choose_stage("Perform")
    window.views.frame_all()
    settle()
    window.registry.run("pose.limb")
    body = window.studio.project.scene.parts[0]

    def at(*place: float) -> tuple[float, float]:
        places = body.transform.to_scene(body.mesh.positions.astype(np.float64))
        near = places[np.argmin(((places - np.array(place)) ** 2).sum(axis=1))]
        x, y, *_ = window.view.camera.project(near[None], window.view.wide, window.view.high)[0]
        return float(x), float(y)

    drag(window, [at(0, 125, 20)] * 2)
    settle()
    window.posing.set_count(3)
    settle()
    bends = ((-20.0, -18.0, 0.0), (-24.0, -14.0, 0.0), (14.0, 18.0, 0.0))
    hinges = (replace(h, bend=bend) for h, bend in zip(window.posing.hinges, bends, strict=True))
    window.posing.keep(tuple(hinges), "Bow")
    settle()
    for key, card in window.cards.items():
        card.head.setChecked(key in ("Pose", "Layers"))
    camera = window.view.camera
    window.view.set_camera(replace(camera, distance=0.62 * camera.distance, target=(-8.0, 138.0, 15.0)))
    settle(1.5)
    grab("perform")
    window.view.take_mode(None)
    window.studio.project.unsaved = False
    window.files.open_demo("sedge-steps")
    window.studio.wait(240)
    settle(2.0)
    window.dress(THEMES["porcelain"])
    window.views.frame_all()
    window.registry.run("rig.pose")
    window.rigging.choose("Knee left")
    for key, card in window.cards.items():
        card.head.setChecked(key == "Rig")
    settle(2.0)
    grab("rig")
    window.view.take_mode(None)
    moods(window, grab, settle)
    window.dress(THEMES["kiln"])


def moods(window, grab, settle) -> None:  # type: ignore[no-untyped-def]
    """*Tarn's moods*: the dials of his laugh."""
    from kneten.core.camera import Camera

    window.studio.project.unsaved = False
    window.files.open_demo("tarn-moods")
    window.studio.wait(300)
    settle(2.0)
    window.choose_stage("Perform")
    for key, card in window.cards.items():
        card.head.setChecked(key == "Shapes")
    window.shaping.choose(next(k for k, one in window.shaping.shapes.items() if one.name == "Jaw drop"))
    window.view.set_camera(Camera(target=(0.0, -16.0, 60.0), distance=470.0, yaw=22.0, pitch=2.0))
    settle(4.0)
    grab("shapes")
    below = below_shapes(window, settle)
    with Image.open(FOLDER / "shapes.png") as file:
        above = file.convert("RGB")
    stacked(above, below).save(FOLDER / "shapes.png")


def below_shapes(window, settle) -> list[Image.Image]:  # type: ignore[no-untyped-def]
    """A find of the check in its place; a pair of shapes without its correction, and with it."""
    from kneten.document.driving import shapes_of
    from kneten.document.shapes import remove_shape
    from tests.app.windows import until

    shaping, checking, project = window.shaping, window.shape_checking, window.studio.project

    def picture() -> Image.Image:
        return middle_of_view(window, settle)

    def key(name: str) -> str:
        return next(one.id for one in shapes_of(project.scene).values() if one.name == name)

    window.registry.run("shape.neutral")
    pair = ("Jaw drop", "Lip corner puller left")
    dials = {key(one): 1.0 for one in pair}
    shaping.show_at(dials)
    after = picture()
    shaping.stop()
    remove_shape(project, key(" + ".join(pair)))
    shaping.show_at(dials)
    before = picture()
    shaping.stop()
    for name in ("Eyes turn left + Eyes up", "Eyes turn left + Eyes up 2"):
        remove_shape(project, key(name))
    window.side.bring("Shape check")
    window.registry.run("shape.check")
    until(lambda: any("Eyes turn left" in one.words for one in checking.finds), 240)
    checking.choose(next(k for k, one in enumerate(checking.finds) if "Eyes turn left" in one.words))
    found = picture()
    checking.finds = []
    return [found, before, after]


def colour(window, grab, settle, hover) -> None:  # type: ignore[no-untyped-def]
    """*Tarn, painted* with a brush on one of his layers."""
    from kneten.core.camera import Camera
    from kneten.document.layering import record
    from tests.app.windows import pixel

    def rest(seconds: float = 2.5) -> None:
        window.studio.wait(120)
        settle(seconds)

    def begin(demo: str, name: str, cards: tuple[str, ...]) -> None:
        window.files.open_demo(demo)
        rest(3.0)
        scene = window.studio.project.scene
        window.studio.project.choose(next(part.id for part in scene.parts if part.name == name))
        window.choose_stage("Colour")
        for key, card in window.cards.items():
            card.head.setChecked(key in cards)
        window.studio.set_look(kind="sky")
        window.choose_tool("paint")

    studio = window.studio
    begin("tarn-painted", "Tarn", ("Colour", "Layers"))
    part = studio.project.active
    zones = next(layer.id for layer in part.stack.layers if layer.name == "Zones")
    window.levels.choose(zones)
    record(studio.project, part, zones)
    window.colours.take((152, 96, 74))
    studio.set_brush(size=34.0, strength=0.35)
    window.view.set_camera(Camera(target=(24.0, -8.0, 80.0), distance=480.0, yaw=17.0, pitch=2.0))
    rest(4.0)
    for notice in list(window.notices.notices):
        notice.leave()
    hover(*pixel(window, np_point((60, -14, 108))))
    grab("colour")
    studio.project.unsaved = False


def np_point(place):  # type: ignore[no-untyped-def]
    """A place as an array."""
    import numpy as np

    return np.array(place, np.float64)


def coat(window, part, settle) -> None:  # type: ignore[no-untyped-def]
    """Live scales on neck and breast, barnacles pressed into the brow, hide as grain over all that does not look down."""
    import numpy as np

    from kneten.core.masks import blurred
    from tests.app.windows import drag

    studio = window.studio
    project = studio.project
    part = project.scene.part(part.id)
    at = part.mesh.positions
    low, high = at.min(axis=0), at.max(axis=0)
    up = (at[:, 1] - low[1]) / (high[1] - low[1])

    def masked(mask) -> None:  # type: ignore[no-untyped-def]
        wide = None if mask is None else blurred(part.mesh, mask.astype(np.float32), 30)
        project.set_values(part.id, "mask", wide, "Mask")
        settle(0.2)

    def rest(seconds: float = 1.5) -> None:
        studio.wait(120)
        settle(seconds)

    for hand in (p for p in project.scene.parts if p.name.startswith("Hand")):
        project.show(hand.id, False)
    masked(np.clip((0.40 - up) / 0.1, 0, 1) * np.clip((at[:, 2] - 25) / 14, 0, 1))
    window.registry.run("laying.scatter")
    rest()
    window.layings.change(size=9.0, gap=-0.3, vary=0.1, shrink_by="mask", shrink=0.35, flow="down")
    rest()
    project.choose(part.id)
    masked(None)
    window.views.look_from("front")
    window.view.set_camera(window.view.camera.turned(-32, 6, np.zeros(3)))
    window.views.frame_all()
    window.view.set_camera(window.view.camera.zoomed(0.72, np.array([10.0, -50.0, 60.0])))
    rest()
    studio.presses.made("deep-barnacle")
    window.choose_tool("press")
    window.presses.choose("deep-barnacle")
    studio.set_brush(kind="sized")
    studio.set_tip(height=0.6)
    for spot, size in (
        ((14.0, 78.0, 95.0), 34),
        ((33.0, 84.0, 85.0), 26),
        ((26.0, 66.0, 98.0), 20),
        ((52.0, 76.0, 80.0), 17),
    ):
        x, y, _ = window.view.camera.project(np.array([spot]), window.view.width(), window.view.height())[0]
        drag(window, [(float(x), float(y)), (float(x) + size, float(y))])
        rest(0.3)
    studio.presses.made("hide-thick")
    window.presses.choose("hide-thick")
    window.registry.run("grain.add-press")
    rest()
    window.grains.change(scale=26.0, height=0.9, where="slope", low=0.45, high=1.0, soft=0.2)
    rest()
    for name, card in window.cards.items():
        card.head.setChecked(name in ("Grain", "Rows and scatter"))
    rest(3.0)
    for notice in list(window.notices.notices):
        notice.leave()


def np_place(low, high, share: float):  # type: ignore[no-untyped-def]
    """A place in the middle of a box, at a share of its height."""
    return (low + high) / 2 * [1, 0, 1] + [0, low[1] + share * (high[1] - low[1]), 0]


def rename(window, name: str) -> None:  # type: ignore[no-untyped-def]
    """Call the chosen layer something."""
    from kneten.document.layering import change_layer

    change_layer(window.studio.project, window.levels.part, window.levels.chosen.id, "Rename", name=name)


def blocking(window, grab, settle) -> None:  # type: ignore[no-untyped-def]
    """The blockout demo: its board, the whole."""
    window.files.open_demo("widow-sedge")
    settle(1.5)
    window.choose_stage("Gather")
    for card in (window.view_card, window.tool_card):
        card.head.setChecked(False)
    window.proportion_card.head.setChecked(True)
    window.proportion.on = True
    window.references.switch_board()
    grab("board")
    window.references.switch_board()
    window.proportion.on = False
    window.choose_stage("Block")
    grab("block")


if __name__ == "__main__":
    main()
