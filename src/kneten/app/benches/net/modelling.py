"""Modelling in the window: what is chosen of a part with few faces, and what is done with it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QObject, Signal

from kneten.app.fields.quantities import count_text
from kneten.core.arrays import F64, AnyArray, Progress
from kneten.core.mesh import Mesh
from kneten.core.net import modelling as net
from kneten.core.net.draft import Made
from kneten.core.net.drawing import Ground, grown, joined, open_rims, ring, snapped, strip, with_images
from kneten.core.net.patches import foretold, patched
from kneten.core.placing import kneaded
from kneten.core.subdivide import crease_of_edges
from kneten.core.topology import MeshError
from kneten.core.uv.islands import Edges
from kneten.core.uv.seams import loop_of
from kneten.document.carried_parts import Carried, matrix_between
from kneten.document.netting import (
    finished,
    ground_of,
    land_finished,
    move_net,
    put_net,
    twins_of_places,
    unfit,
)
from kneten.document.scene import Part

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

KINDS = {
    "vertices": ("Vertices", "Presses choose vertices"),
    "edges": ("Edges", "Presses choose edges; a double click the loop"),
    "faces": ("Faces", "Presses choose faces; a double click the row"),
}


class Modelling(QObject):
    """Commands of nets.

    Attributes
    ----------
    kind : str
        Of `KINDS`: what presses choose.
    """

    changed = Signal()

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self._desk = desk
        self._studio = desk.studio
        self.kind = "faces"
        self._of = ""
        self._chosen: dict[str, AnyArray] = {}
        self._edges: tuple[str, Edges | None] = ("", None)
        self._studio.project_changed.connect(self._forget)
        self._studio.scene_changed.connect(self.changed)

    def _forget(self) -> None:
        self._of, self._chosen = "", {}
        self.changed.emit()

    # -- chosen ----------------------------------------------------------------------------------------

    def edges(self, mesh: Mesh) -> Edges:
        """A mesh's edges."""
        if self._edges[0] != mesh.topology.uid or self._edges[1] is None:
            self._edges = (mesh.topology.uid, Edges.of(mesh.topology))
        assert self._edges[1] is not None
        return self._edges[1]

    def _sizes(self, mesh: Mesh) -> dict[str, int]:
        return {
            "vertices": mesh.n_vertices,
            "edges": len(self.edges(mesh).ends),
            "faces": mesh.topology.n_faces,
        }

    def raw(self, mesh: Mesh) -> AnyArray:
        """What is chosen of the kind in use, bool."""
        if self._of != mesh.topology.uid or self.kind not in self._chosen:
            return np.zeros(self._sizes(mesh)[self.kind], bool)
        return self._chosen[self.kind]

    def choose(self, mesh: Mesh, which: AnyArray) -> None:
        """Let exactly these of the kind in use be chosen."""
        self._of, self._chosen = mesh.topology.uid, {self.kind: which}
        self._desk.view.repaint_over()
        self.changed.emit()

    def take_kind(self, kind: str) -> None:
        """Choose another kind from now on: of what is chosen, what that means there."""
        part = self._studio.project.active
        if part is not None and not unfit(part):
            made = {"vertices": self.vertices, "edges": self.marked, "faces": self.faces}[kind](part.mesh)
            self.kind = kind
            self.choose(part.mesh, made)
        self.kind = kind
        self.changed.emit()

    def vertices(self, mesh: Mesh) -> AnyArray:
        """The vertices (n,) bool of what is chosen."""
        raw, out = self.raw(mesh), np.zeros(mesh.n_vertices + 1, bool)
        if self.kind == "vertices":
            return raw.copy()
        out[
            (self.edges(mesh).ends[raw] if self.kind == "edges" else mesh.topology.faces[raw]).reshape(-1)
        ] = True
        return out[:-1]

    def marked(self, mesh: Mesh) -> AnyArray:
        """The edges (m,) bool of what is chosen: both of whose ends are."""
        if self.kind == "edges":
            return self.raw(mesh).copy()
        return np.asarray(self.vertices(mesh)[self.edges(mesh).ends].all(axis=1))

    def faces(self, mesh: Mesh) -> AnyArray:
        """The faces (f,) bool of what is chosen: all of whose corners are."""
        if self.kind == "faces":
            return self.raw(mesh).copy()
        table, on = mesh.topology.faces, np.append(self.vertices(mesh), True)
        return np.asarray(on[table].all(axis=1))

    def with_twins(self, part: Part, kind: str, which: AnyArray) -> AnyArray:
        """What is chosen with its mirror images, where symmetry is on and the clay has them."""
        twins = self._studio.project.twins(part)
        if len(twins) < 2:
            return which
        places = self.places(part.mesh, kind)
        size = float(np.ptp(part.mesh.positions, axis=0).max())
        found = twins_of_places(places, [(twin.linear, twin.shift) for twin in twins], 1e-3 * size)
        out = which.copy()
        for row in found:
            other = row[which]
            out[other[other >= 0]] = True
        return out

    def places(self, mesh: Mesh, kind: str) -> F64:
        """Where vertices are, or the middles of edges or faces, (k, 3)."""
        p = mesh.positions.astype(np.float64)
        if kind == "vertices":
            return p
        if kind == "edges":
            return np.asarray(p[self.edges(mesh).ends].mean(axis=1))
        has = mesh.topology.faces >= 0
        return np.asarray(
            (p[np.maximum(mesh.topology.faces, 0)] * has[:, :, None]).sum(axis=1) / has.sum(axis=1)[:, None]
        )

    def choose_loop(self) -> None:
        """Choose the loops of the chosen edges."""
        self._along(loop_of)

    def choose_ring(self) -> None:
        """Choose the edges that lie across the same rows as the chosen ones."""
        self._along(net.ring_of)

    def _along(self, found: Callable[[Mesh, Edges, int], AnyArray]) -> None:
        mesh = self._hand().mesh
        edges, marked = self.edges(mesh), self.marked(mesh)
        out = marked.copy()
        for edge in np.flatnonzero(marked).tolist():
            if out[edge] and edge not in np.flatnonzero(marked):
                continue
            out[found(mesh, edges, edge)] = True
        self.kind = "edges"
        self.choose(mesh, out)

    def choose_all(self) -> None:
        """Choose all; the same again nothing."""
        mesh = self._hand().mesh
        self.choose(mesh, np.full(len(self.raw(mesh)), not self.raw(mesh).all()))

    def choose_more(self) -> None:
        """Choose what lies beside what is chosen as well."""
        mesh = self._hand().mesh
        on = np.append(self.vertices(mesh), False)
        table = mesh.topology.faces
        near = np.append(np.zeros(mesh.n_vertices, bool), False)
        near[table[on[table].any(axis=1)].reshape(-1)] = True
        near[-1] = False
        kind, self.kind = self.kind, "vertices"
        self.choose(mesh, near[:-1])
        self.take_kind(kind)

    # -- why not ---------------------------------------------------------------------------------------

    def _hand(self) -> Part:
        part = self._studio.project.active
        assert part is not None
        return part

    def none(self) -> str:
        """Why nothing can be modelled."""
        part = self._studio.project.active
        if part is None:
            return "There is no part in hand."
        return self._studio.move_blocked(part) or unfit(part)

    def nothing(self) -> str:
        """Why nothing can be done with what is chosen."""
        if blocked := self.none():
            return blocked
        return (
            ""
            if self.raw(self._hand().mesh).any()
            else "Nothing of the part is chosen: take Model in hand and press on it."
        )

    def no_clay(self) -> str:
        """Why nothing can be drawn."""
        part = self._studio.project.active
        if part is None:
            return "There is no part in hand."
        return self._studio.move_blocked(part)

    def not_finished(self) -> str:
        """Why the net cannot become a base."""
        if blocked := self.none():
            return blocked
        return (
            ""
            if self._clay(self._hand()) is not None
            else "There is no other part that is seen: the clay the net lies on."
        )

    # -- done ------------------------------------------------------------------------------------------

    def _do(self, name: str, work: Callable[[Mesh], Made]) -> None:
        """Change the part's faces: one step; what cannot be done is said."""
        part = self._hand()
        try:
            made = work(part.mesh)
        except MeshError as error:
            self._studio.say(f"{name}: {error}.", "warning")
            return
        put_net(self._studio.project, part, made.mesh, name)
        if made.chosen.any():
            self.kind = "faces"
            self.choose(made.mesh, made.chosen)
        elif made.marked.any():
            self.kind = "vertices"
            self.choose(made.mesh, made.marked)
        else:
            self.choose(made.mesh, np.zeros(self._sizes(made.mesh)[self.kind], bool))

    def _some_faces(self, mesh: Mesh) -> AnyArray:
        return self.with_twins(self._hand(), "faces", self.faces(mesh))

    def _some_edges(self, mesh: Mesh) -> AnyArray:
        return self.with_twins(self._hand(), "edges", self.marked(mesh))

    def _some_vertices(self, mesh: Mesh) -> AnyArray:
        return self.with_twins(self._hand(), "vertices", self.vertices(mesh))

    def _length(self) -> float:
        return float(self._desk.net_card.distance.value() / self._hand().transform.scale)

    def soft(self) -> float:
        """How far around what is dragged the net comes along, in millimetres of the scene."""
        return float(self._desk.net_card.softly.value())

    def _share(self) -> float:
        return float(self._desk.net_card.share.value() / 100)

    def extrude(self) -> None:
        """Move the chosen faces out, with walls behind them."""
        self._do("Extrude", lambda mesh: net.extruded(mesh, self._some_faces(mesh), self._length()))

    def inset(self) -> None:
        """Draw the chosen faces in, with a rim around them."""
        self._do("Inset", lambda mesh: net.inset(mesh, self._some_faces(mesh), self._share()))

    def bevel(self) -> None:
        """Let bands take the place of the chosen edges."""
        self._do("Bevel", lambda mesh: net.bevelled(mesh, self._some_edges(mesh), abs(self._length())))

    def crease(self) -> None:
        """Let the chosen edges stay sharp as often as the card says."""
        part = self._hand()
        times = float(self._desk.net_card.crease.value())
        try:
            creases = net.creased(part.mesh, self._some_edges(part.mesh), times)
        except MeshError as error:
            self._studio.say(f"Crease edges: {error}.", "warning")
            return
        if not self._studio.project.set_values(part.id, "creases", creases, "Crease edges"):
            self._studio.say("The chosen edges are as sharp as that already.")
        self._desk.view.refresh()
        self.changed.emit()

    def creases(self, mesh: Mesh) -> AnyArray:
        """How sharp each edge stays, (m,) uint8."""
        edges = self.edges(mesh)
        found = crease_of_edges(edges.of_face, mesh.topology.faces, edges.sides, mesh.creases)
        return found if len(found) else np.zeros(len(edges.ends), np.uint8)

    def no_crease(self) -> str:
        """Why no crease can be chosen."""
        if blocked := self.none():
            return blocked
        return "" if self._hand().mesh.creases is not None else "No edge of the part stays sharp."

    def choose_creases(self) -> None:
        """Choose all edges that stay sharp."""
        mesh = self._hand().mesh
        self.kind = "edges"
        self.choose(mesh, self.creases(mesh) > 0)

    def cut_loop(self) -> None:
        """Cut a loop across the row of the chosen edge, and its twin."""
        self._each_edge("Cut a loop", lambda mesh, edge: net.loop_cut(mesh, edge, self._share()))

    def spin(self) -> None:
        """Turn the chosen edge, and its twin."""
        self._each_edge("Spin", net.spun)

    def _each_edge(self, name: str, work: Callable[[Mesh, int], Made]) -> None:
        def both(mesh: Mesh) -> Made:
            which = np.flatnonzero(self.marked(mesh))
            if not len(which):
                raise MeshError("no edge is chosen")
            twins = np.flatnonzero(self._some_edges(mesh))
            middles = self.places(mesh, "edges")
            wanted = [middles[which[0]], *(middles[e] for e in twins if e != which[0] and e not in which)]
            size = float(np.ptp(mesh.positions, axis=0).max())
            made, done = None, mesh
            for place in wanted:
                edges = Edges.of(done.topology)
                far = np.linalg.norm(done.positions[edges.ends].mean(axis=1) - place, axis=1)
                # What lies in the same row was cut with it, and is no whole edge any more.
                if far.min() < 1e-3 * size:
                    made = work(done, int(np.argmin(far)))
                    done = made.mesh
            assert made is not None
            return made

        self._do(name, both)

    def bridge(self) -> None:
        """Join two groups of chosen faces, or two chosen rims, by a tube."""
        self._do("Bridge", lambda mesh: net.bridged(mesh, self.faces(mesh) if self.kind == "faces" else np.zeros(mesh.topology.n_faces, bool), self.vertices(mesh)))  # fmt: skip

    def fill(self) -> None:
        """Close the chosen open rims with quads."""
        self._do("Fill", lambda mesh: patched(mesh, self._some_vertices(mesh), self.ground()))

    def face(self) -> None:
        """Make a face between the chosen vertices."""
        self._do("Face", lambda mesh: net.face_between(mesh, self.vertices(mesh)))

    def weld(self) -> None:
        """Make chosen vertices one that are nearer to each other than the distance."""
        self._do("Weld", lambda mesh: net.welded_near(mesh, self._some_vertices(mesh), abs(self._length())))

    def collapse(self) -> None:
        """Make all chosen vertices one."""
        self._do("Collapse", lambda mesh: net.collapsed(mesh, self.vertices(mesh)))

    def dissolve(self) -> None:
        """Take the chosen edges away; the faces beside them become one."""
        self._do("Dissolve", lambda mesh: net.dissolved(mesh, self._some_edges(mesh)))

    def split(self) -> None:
        """Cut the chosen quads along their shorter diagonals."""
        self._do("Split", lambda mesh: net.split_quads(mesh, self._some_faces(mesh)))

    def flip(self) -> None:
        """Turn the chosen faces inside out."""
        self._do("Flip", lambda mesh: net.turned(mesh, self._some_faces(mesh)))

    def delete(self) -> None:
        """Take the chosen faces away."""
        self._do("Delete faces", lambda mesh: net.without(mesh, self._some_faces(mesh)))

    def grow(self) -> None:
        """Grow the chosen open rims by a row of quads, on the clay where that is wanted."""
        self._do(
            "Grow a row",
            lambda mesh: grown(mesh, self._some_vertices(mesh), abs(self._length()), self.ground()),
        )

    # -- moved --------------------------------------------------------------------------------------------

    def _move(self, name: str, work: Callable[[Mesh], F64], lay: bool = True) -> None:
        part = self._hand()
        try:
            places = work(part.mesh)
        except MeshError as error:
            self._studio.say(f"{name}: {error}.", "warning")
            return
        self.place(part, places, name, lay)

    def place(self, part: Part, places: F64, name: str, lay: bool = True) -> None:
        """Put a part's vertices to places (n, 3), what has moved onto the clay where that is wanted: one step."""
        ground = self.ground() if lay else None
        if ground is not None:
            moved = (np.abs(places - part.mesh.positions) > 1e-6).any(axis=1)
            if moved.any():
                places = places.copy()
                places[moved], _ = ground.laid(places[moved])
        move_net(self._studio.project, part, places, name)

    def slide(self) -> None:
        """Move the chosen edges along the edges beside them by the share."""
        self._move("Slide", lambda mesh: net.slid(mesh, self.marked(mesh), self._share()))

    def relax(self) -> None:
        """Draw the chosen vertices, or all, to the middles of their neighbours."""
        self._move("Relax", lambda mesh: net.relaxed_net(mesh, self._some_vertices(mesh)))

    def snap(self) -> None:
        """Put the chosen vertices, or all, onto the clay of other parts."""
        part = self._hand()
        ground = ground_of([one for one in self._studio.project.scene.parts if one.visible], part)
        if ground is None:
            self._studio.say("There is no other part that is seen to lay it on.", "warning")
            return
        self._move("Lay on the clay", lambda mesh: snapped(mesh, self.vertices(mesh), ground), lay=False)

    # -- drawn --------------------------------------------------------------------------------------------

    def ground(self) -> Ground | None:
        """The clay of other parts that are seen, where the card lays nets on it."""
        if not self._desk.net_card.laid.isChecked():
            return None
        part = self._hand()
        return ground_of([one for one in self._studio.project.scene.parts if one.visible], part)

    def _clay(self, part: Part) -> Part | None:
        """The largest other part that is seen."""
        others = [one for one in self._studio.project.scene.parts if one.visible and one.id != part.id]
        return max(others, key=lambda one: one.mesh.n_vertices, default=None)

    def draw(self, clay: Part, line: F64, closed: bool) -> None:
        """Add a strip along a line (k, 3) of a part's clay to the net in hand, or begin one."""
        width = self._desk.net_card.width_field.value() / clay.transform.scale
        lines, rims = with_images(line, closed, self._likes(clay)), self._rims_on(clay)
        self._add(
            clay, lambda ground: [strip(one, width, ground, closed, rims) for one in lines], width, "Strip"
        )

    def draw_ring(self, clay: Part, loop: F64) -> None:
        """Add a band round a limb, along a loop (k, 3) of its clay."""
        width = self._desk.net_card.width_field.value() / clay.transform.scale
        count = int(self._desk.net_card.count.value())
        lines = with_images(loop, True, self._likes(clay))
        # One that lies across the mirror is as it was found: it follows the limb.
        loops = lines if len(lines) > 1 else [loop]
        self._add(clay, lambda ground: [ring(one, count, width, ground) for one in loops], width, "Ring")

    def _rims_on(self, clay: Part) -> list[F64]:
        """The open rims of the net in hand, in the space of the clay it is drawn on."""
        active = self._studio.project.active
        if active is None or active.id == clay.id or not active.net:
            return []
        matrix = matrix_between(active, clay)
        places = active.mesh.positions.astype(np.float64) @ matrix[:3, :3].T + matrix[:3, 3]
        return [places[rim] for rim in open_rims(active.mesh)]

    def _likes(self, part: Part) -> list[tuple[AnyArray, AnyArray]]:
        """The maps to the mirror images of what is done to a part."""
        twins = self._studio.project.twins(part)
        return [(twin.linear, twin.shift) for twin in twins if not np.allclose(twin.linear, np.eye(3))]

    def _add(self, clay: Part, work: Callable[[Ground], list[Mesh]], width: float, name: str) -> None:
        project = self._studio.project
        active = project.active
        ground = Ground([clay.mesh])
        try:
            more, *images = work(ground)
        except MeshError as error:
            self._studio.say(f"{name}: {error}.", "warning")
            return
        for image in images:
            more = joined(more, image, 0.45 * width)
        if active is not None and active.id != clay.id and active.net and not unfit(active):
            put_net(project, active, joined(active.mesh, kneaded(more, matrix_between(clay, active)), 0.45 * width), name)  # fmt: skip
            return
        step = f"{name} on {clay.name}"
        with project.at_once(step):
            (made,) = project.add_meshes(step, [(f"{clay.name} net", more, clay.transform)])
            project.change(step, project.scene.with_part(replace(made, net=True)))
        project.choose(made.id)

    def finish(self) -> None:
        """Let the net be a base with levels that have the form of the clay it lies on."""
        part, studio = self._hand(), self._studio
        clay = self._clay(part)
        assert clay is not None
        kept, clay_id = studio.project.scene.kept_masks, clay.id
        own, other = replace(part, mesh=part.mesh.copy()), replace(clay, mesh=clay.mesh.copy())

        def work(progress: Progress) -> Carried:
            return finished(own, other, kept, progress)

        def arrived(made: Carried) -> None:
            now = land_finished(studio.project, part.id, clay_id, made)
            missed = (
                f" {count_text(made.missed)} vertices found no match and are masked." if made.missed else ""
            )
            studio.say(f"{now.name} is a base now, with the form of {other.name} on its levels.{missed}")

        studio.work_on([part, clay], "New base", work, arrived)

    def words(self) -> str:
        """What is chosen, and what the part is like, in a line."""
        part = self._studio.project.active
        if part is None:
            return ""
        if blocked := unfit(part):
            return blocked
        faces = part.mesh.topology.faces
        threes = int((faces[:, 3] < 0).sum())
        chosen = int(self.raw(part.mesh).sum())
        own = f"{count_text(chosen)} {self.kind} chosen. " if chosen else ""
        sharp = int((self.creases(part.mesh) > 0).sum()) if part.mesh.creases is not None else 0
        creases = f" {count_text(sharp)} edges stay sharp." if sharp else ""
        patches = ", ".join(f"{a} by {b}" for a, b in self._patches(part.mesh)[:3])
        fills = f" Fill makes {patches} quads." if patches else ""
        return f"{own}{count_text(len(faces))} faces, {count_text(threes)} of them triangles.{creases}{fills}"

    def _patches(self, mesh: Mesh) -> list[tuple[int, int]]:
        """How many quads filling what is chosen would make, both ways of each rim."""
        vertices = self.vertices(mesh)
        return foretold(mesh, vertices) if vertices.any() else []
