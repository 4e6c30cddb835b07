"""What is saved with a project but is not undone."""

from __future__ import annotations

from dataclasses import dataclass, field

from kneten.core.camera import Camera
from kneten.core.paint.ink import Colour, Ink
from kneten.core.paint.materials import Preset
from kneten.core.twin_places import Axes
from kneten.document.game_wish import GameWish
from kneten.document.look import Look
from kneten.document.print_wish import PrintWish
from kneten.document.things import new_id


@dataclass(frozen=True)
class SavedView:
    """A camera kept under a name, with a picture (PNG)."""

    name: str
    camera: Camera
    picture: bytes
    id: str = field(default_factory=new_id)


@dataclass(frozen=True)
class Sent:
    """A level of a part that is out in a file, to be taken back changed.

    Attributes
    ----------
    part : str
        The part's id.
    name : str
        What it is called in the file.
    level : int
    path : str
    stamp : str
        What the file was like when it was last written or read.
    """

    part: str
    name: str
    level: int
    path: str
    stamp: str = ""


@dataclass(frozen=True)
class Palette:
    """Colours that belong together."""

    name: str
    colours: tuple[Colour, ...]
    id: str = field(default_factory=new_id)


@dataclass(frozen=True)
class Settings:
    """What is saved with a project but is not undone. `Project.change_settings` changes it.

    Attributes
    ----------
    symmetry : three bools
        Across which planes strokes are mirrored.
    radial : pair of int
        About which axis strokes are repeated all round, and how often; 1 for not at all.
    symmetry_space : str
        "part": the part's own planes and axes; "world": the scene's; "shape": twins across X by the mesh's shape.
    unit : str
        Unit in which lengths are shown: mm, cm, m or in.
    budget : int
        Vertices the project should stay under.
    look : Look
    matcaps : dict
        The user's own pictures by name, as PNG.
    views : tuple of SavedView
        Cameras to come back to.
    originals : dict
        Reference pictures as they came, by a key made from their bytes and their ending.
    canons : pairs of name and marks
        The user's own proportions: marks as shares of the height.
    brief : str
        Who the character is, why, and made of what.
    sent : tuple of Sent
        What is out in files.
    show_guides : bool
        Guides are drawn.
    ink : Ink
        What is painted with.
    palettes : tuple of Palette
    materials : tuple of Preset
        The user's own.
    through : str
        Id of the camera that is looked through; "" for none.
    keeps_steps : bool
        When it is saved, what was done since the last time is kept for the reel.
    reel : str
        What that is kept under, in the state of this machine; "" as long as nothing is.
    printing : PrintWish
    game : GameWish
    """

    symmetry: Axes = (True, False, False)
    radial: tuple[int, int] = (1, 1)
    symmetry_space: str = "part"
    unit: str = "mm"
    budget: int = 4_000_000
    camera: Camera = Camera()
    look: Look = Look()
    matcaps: dict[str, bytes] = field(default_factory=dict)
    views: tuple[SavedView, ...] = ()
    originals: dict[str, bytes] = field(default_factory=dict)
    canons: tuple[tuple[str, tuple[float, ...]], ...] = ()
    brief: str = ""
    sent: tuple[Sent, ...] = ()
    show_guides: bool = True
    ink: Ink = Ink()
    palettes: tuple[Palette, ...] = ()
    materials: tuple[Preset, ...] = ()
    through: str = ""
    keeps_steps: bool = True
    reel: str = ""
    printing: PrintWish = PrintWish()
    game: GameWish = GameWish()
