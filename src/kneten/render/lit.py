"""The light of the look *Lit*: the lamps' shadow maps side by side in one, the sky's tables, and what programs need to know of both."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import Any

import moderngl
import numpy as np

from kneten.core.arrays import F64
from kneten.core.camera import Camera
from kneten.core.light.lamps import Lamp, lit
from kneten.core.light.skies import ROUGH, TALL, SkyTables
from kneten.core.light.surroundings import Surroundings, Sweep
from kneten.document.lighting import around, day_lamps, lamps_of, sky_tables
from kneten.document.scene import Part, Scene
from kneten.render.parts import Shelf
from kneten.render.programs import Programs, put
from kneten.render.shadow import DepthMap, Sight, far_sight, near_sight

TILE = 1024
"""Pixels across of each lamp's map."""

ACROSS = 4
"""Maps side by side."""

WHOLE = 1_500_000
"""Triangles up to which a part casts its shadow as it is while one works; larger ones by their stand-ins. In stills all do."""

COARSE = 150.0
"""How many of a stand-in's edges go along the clay."""

FLOOR_TONE = 0.18
"""What a floor that is not seen gives back of light: that of a grey card."""

SHADOW_UNIT, SKY_UNIT = 4, 6


@dataclass(frozen=True, eq=False)
class Light:
    """What lights one picture.

    Attributes
    ----------
    lamps : list of Lamp
        Those that are lit.
    axes : (3, 3) float64
        Of the camera, as rows.
    low, high : (3,) float64
        Corners of what is lit.
    """

    lamps: list[Lamp]
    around: Surroundings
    tables: SkyTables
    axes: F64
    low: F64
    high: F64

    @classmethod
    def of(cls, scene: Scene, camera: Camera, low: F64, high: F64) -> Light:
        """What lights a scene between corners (3,) each."""
        about = around(scene)
        # A sun that there is by the hour stands first: where there are too many lamps the weakest go.
        lamps = lit((*day_lamps(about), *lamps_of(scene)))
        return cls(lamps, about, sky_tables(scene), camera.axes(), low, high)

    def sweep(self) -> Sweep | None:
        """The backdrop, where there is one."""
        return Sweep.behind(self.low, self.high, self.axes) if self.around.backdrop == "sweep" else None

    def floor_gives(self) -> F64:
        """The light, (3,), that the floor gives back of that of the lamps where they aim; what it gives of the sky's is part of that."""
        if not self.around.has_floor or not self.lamps:
            return np.zeros(3)
        sweeps = self.around.backdrop == "sweep"
        tone = (np.array(self.around.tone) / 255) ** 2 if sweeps else np.full(3, FLOOR_TONE)
        falls = [
            lamp.light() * max(float(way[1]), 0.0) for lamp, way in zip(self.lamps, self.ways(), strict=True)
        ]
        return tone * np.sum(falls, axis=0)

    def ways(self) -> list[F64]:
        """The directions, (3,) each, towards the lamps in the scene."""
        return [lamp.towards(self.axes) for lamp in self.lamps]

    def sights(self) -> list[Sight]:
        """What the lamps' maps look at."""
        return [
            far_sight(way, self.low, self.high, TILE)
            if lamp.is_far
            else near_sight(lamp.place(), np.array(lamp.aim), self.low, self.high, TILE)
            for lamp, way in zip(self.lamps, self.ways(), strict=True)
        ]

    def key(self) -> tuple[F64, F64, F64]:
        """For what is lit by one lamp alone: the way (3,) to it in the eye's space, its light (3,), that from all around (3,).

        It is the one that lights most of what is seen; a part of the others' light comes from all around then.
        """
        # Half of all ways lead to the floor.
        sky = np.asarray(self.tables.mean, np.float64) * self.around.strength + self.floor_gives() / 2
        if not self.lamps:
            return np.array([0.0, 0.7, 0.7]), np.zeros(3), sky
        ways = [self.axes @ way for way in self.ways()]
        seen = [
            lamp.strength * max(0.35 + float(way[2]), 0.05)
            for lamp, way in zip(self.lamps, ways, strict=True)
        ]
        best = int(np.argmax(seen))
        for k, lamp in enumerate(self.lamps):
            if k != best:
                # A lamp aside lights a quarter of fibres that stand all ways, one behind them hardly any.
                sky = sky + lamp.light() * 0.25 * np.clip(0.5 + 0.5 * float(ways[k][2]), 0.0, 1.0)
        return ways[best], self.lamps[best].light(), sky


class LitLight:
    """Maps and tables of one renderer, made when they are first wanted."""

    def __init__(self, ctx: moderngl.Context) -> None:
        self._ctx = ctx
        self._maps: DepthMap | None = None
        self._sights: list[Sight] = []
        self._drawn: list[object] = []
        self._sky: moderngl.Texture | None = None
        self._tables: SkyTables | None = None

    def has_shadows_of(self, light: Light) -> bool:
        """Whether each lamp has a map."""
        return bool(light.lamps) and len(self._sights) == len(light.lamps)

    def draw_maps(self, light: Light, parts: list[Part], shelf: Shelf, programs: Programs) -> Iterator[None]:
        """Renew the lamps' maps, in steps; those that would be as they are stay."""
        whole = WHOLE if shelf.patient else np.iinfo(np.int64).max
        sights = light.sights()
        if any(shelf[part].is_large and shelf[part].n_triangles > whole for part in parts):
            # A stand-in is not where the clay is: what is lifted less would shade itself.
            off = float(np.linalg.norm(light.high - light.low)) / COARSE
            sights = [
                replace(one, texel=max(one.texel, off if lamp.is_far else off / lamp.distance))
                for one, lamp in zip(sights, light.lamps, strict=True)
            ]
        if not sights:
            self._sights, self._drawn = [], []
            return
        size = (min(len(sights), ACROSS), -(-len(sights) // ACROSS))
        if self._maps is None or self._maps.tiles != size:
            if self._maps is not None:
                self._maps.release()
            self._maps = DepthMap(self._ctx, TILE, size)
            self._drawn = []
        stands = [(part.mesh_id, shelf[part].version, part.transform) for part in parts]
        keys: list[object] = [(sight.matrix.tobytes(), stands) for sight in sights]
        known, self._drawn = self._drawn, []
        for k, sight in enumerate(sights):
            if k >= len(known) or known[k] != keys[k]:
                yield from self._maps.draw(parts, shelf, programs, sight, True, k, whole)
            self._drawn.append(keys[k])
        self._sights = sights

    def _use_sky(self, tables: SkyTables) -> None:
        if self._sky is None or tables is not self._tables:
            if self._sky is not None:
                self._sky.release()
            pixels = np.concatenate([*tables.levels, tables.diffuse]).astype(np.float16)
            self._sky = self._ctx.texture(
                (2 * TALL, TALL * (len(ROUGH) + 1)), 3, pixels.tobytes(), dtype="f2"
            )
            self._sky.repeat_x, self._sky.repeat_y = True, False
            self._tables = tables
        self._sky.use(SKY_UNIT)

    def put(self, program: moderngl.Program, light: Light, camera: Camera, shadows: bool) -> None:
        """Tell a program of lamps and sky."""
        about = light.around
        self._use_sky(light.tables)
        turn = np.radians(about.turn)
        eye, back = camera.eye(), camera.axes()[2]
        put(
            program,
            sky_levels=SKY_UNIT,
            sky_turn=(float(np.cos(turn)), float(np.sin(turn))),
            sky_strength=about.strength,
            floor_gives=tuple(light.floor_gives().tolist()),
            eye_at=(*back.tolist(), 0.0) if camera.orthographic else (*eye.tolist(), 1.0),
        )
        if not light.lamps:
            return
        ways = light.ways()
        at = [
            (*way, 0.0) if lamp.is_far else (*lamp.place(), 1.0)
            for lamp, way in zip(light.lamps, ways, strict=True)
        ]
        _rows(program, "lamp_at", at)
        _rows(program, "lamp_light", [lamp.light() for lamp in light.lamps])
        _rows(program, "lamp_out", ways)
        _rows(program, "lamp_more", [(lamp.distance, *_cone(lamp), lamp.spread()) for lamp in light.lamps])
        if not shadows:
            return
        assert self._maps is not None
        self._maps.texture.use(SHADOW_UNIT)
        put(program, shadows=SHADOW_UNIT)
        _rows(program, "shadow_from_scene", [sight.matrix.T.reshape(-1) for sight in self._sights])
        _rows(program, "shadow_tile", [self._maps.tile(k) for k in range(len(self._sights))])
        _rows(program, "shadow_deep", [(*sight.deep, sight.share, sight.texel) for sight in self._sights])

    def release(self) -> None:
        """Give the graphics memory back."""
        for thing in (self._maps, self._sky):
            if thing is not None:
                thing.release()
        self._maps = self._sky = None
        self._sights = []


def _cone(lamp: Lamp) -> tuple[float, float]:
    """The cosines at which a lamp's cone ends, and at which its edge begins; it is lit all round unless it is a spot."""
    if lamp.kind == "panel":
        # It gives no light to what is behind it.
        return 0.0, 0.25
    if lamp.kind != "spot":
        return -3.0, -2.0
    half = np.radians(lamp.cone) / 2
    return float(np.cos(half)), float(np.cos(half * 0.8))


def _rows(program: moderngl.Program, name: str, rows: Any) -> None:
    """Write an array of a program, (k, n), where it has that."""
    if name in program:
        uniform = program[name]
        assert isinstance(uniform, moderngl.Uniform)
        uniform.write(np.ascontiguousarray(rows, np.float32).tobytes())
