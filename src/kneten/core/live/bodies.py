"""Armatures to begin with: bodies and beasts, all of our own making. Millimetres; feet stand at y = 0."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from kneten.core.live.armature import Armature, Joint

Ball = tuple[str, float, float, float, float]
"""Name, x, y, z, radius."""


class Builder:
    """Puts chains of balls together, on both sides where they lie beside the middle."""

    def __init__(self, name: str, x: float, y: float, z: float, radius: float) -> None:
        self.joints = [Joint(0, -1, (x, y, z), radius, 0 if x == 0 else -1, name)]
        self.names = {name: 0}

    def chain(self, start: str, balls: Sequence[Ball], pair: bool = False) -> Builder:
        """Balls that hang on each other, the first on the one called `start`.

        With `pair` each gets a twin across x = 0; names are given without a side.
        """
        parent = self.names[start]
        twin_parent = self.joints[parent].twin
        for name, x, y, z, radius in balls:
            key = len(self.joints)
            self.names[name] = key
            if pair:
                self.joints.append(Joint(key, parent, (x, y, z), radius, key + 1, f"{name} left"))
                other = twin_parent if twin_parent >= 0 else parent
                self.joints.append(Joint(key + 1, other, (-x, y, z), radius, key, f"{name} right"))
                parent, twin_parent = key, key + 1
            else:
                twin = key if x == 0 and self.joints[parent].twin == parent else -1
                self.joints.append(Joint(key, parent, (x, y, z), radius, twin, name))
                parent = key
        return self

    def made(self, edge: float, blend: float = 0.14) -> Armature:
        """The armature."""
        return Armature(tuple(self.joints), edge, blend)


def biped_slender() -> Armature:
    """A slender upright body of 163 mm, arms half spread."""
    b = Builder("pelvis", 0, 92, 0, 8.6)
    b.chain(
        "pelvis",
        [("waist", 0, 103, 1, 7.4), ("chest", 0, 118, 0, 9.8), ("collar", 0, 132, -2, 6.2)],
    )
    b.chain("collar", [("neck", 0, 139, -1, 4.0), ("skull", 0, 154, 1.5, 9.0), ("jaw", 0, 147.5, 6.5, 4.6)])
    b.chain(
        "collar",
        [
            ("clavicle", 7, 133, -2, 4.0),
            ("shoulder", 16, 131, -3, 5.4),
            ("upper arm", 22, 119, -3, 4.0),
            ("elbow", 30, 104, -4, 3.3),
            ("forearm", 36, 93, -1, 3.4),
            ("wrist", 43, 80, 2, 2.3),
            ("palm", 46, 74, 3.5, 3.0),
        ],
        pair=True,
    )
    _hand(b, "palm", (46, 74, 3.5), 0.9)
    b.chain("palm", [("thumb 1", 45.0, 75.0, 7.4, 1.5), ("thumb 2", 45.8, 70.8, 9.6, 1.25)], pair=True)
    b.chain(
        "pelvis",
        [
            ("hip", 8.4, 87, -0.5, 7.6),
            ("thigh", 9.6, 70, 1, 6.9),
            ("knee", 9.8, 48, 1.5, 4.7),
            ("calf", 9.8, 35, -1.6, 4.8),
            ("ankle", 9.8, 9, -2, 2.9),
            ("heel", 9.8, 3.6, -5, 3.0),
        ],
        pair=True,
    )
    b.chain("ankle", [("ball of foot", 11, 3.4, 8, 3.2)], pair=True)
    _toes(b, "ball of foot", 11, 9.5, 2.4, 1.25)
    return b.made(0.9)


def _hand(b: Builder, palm: str, at: tuple[float, float, float], r: float) -> None:
    """Fingers that hang down from a palm beside the body."""
    x, y, z = at
    for number, name in enumerate(("index", "middle", "ring", "little")):
        side = 3.4 - 2.3 * number
        long = (8.6, 9.6, 9.0, 7.2)[number] * r / 0.9
        balls = [
            (f"{name} {k + 1}", x + 1.2 + 1.6 * s, y - 2.4 - long * s, z + side * (1 + 0.3 * s) * r, r * w)
            for k, (s, w) in enumerate(((0.0, 1.45), (0.5, 1.25), (1.0, 1.05)))
        ]
        b.chain(palm, balls, pair=True)


def _toes(b: Builder, foot: str, x: float, z: float, step: float, r: float) -> None:
    for number in range(5):
        out = x - 1.6 * step / 2.4 * 1.6 + number * step * 0.72
        big = 1.5 if number == 0 else 1.0 - 0.06 * number
        ahead = z + 5.2 - 0.75 * number
        b.chain(
            foot,
            [(f"toe {number + 1}", out, 2.2, z + 1.0, r * big), (f"toe tip {number + 1}", out, 1.6, ahead, r * big * 0.85)],
            pair=True,
        )  # fmt: skip


def biped_heavy() -> Armature:
    """A heavy body: broad chest, belly, short legs, big hands; an ogre's or a troll's."""
    b = Builder("pelvis", 0, 62, -2, 17)
    b.chain(
        "pelvis",
        [("belly", 0, 82, 7, 22), ("chest", 0, 106, 0, 23), ("collar", 0, 124, -6, 14)],
    )
    b.chain("collar", [("neck", 0, 131, 2, 10), ("skull", 0, 141, 10, 12.5), ("jaw", 0, 133, 17, 8.5)])
    b.chain(
        "collar",
        [
            ("clavicle", 17, 121, -5, 11),
            ("shoulder", 33, 115, -6, 13),
            ("upper arm", 43, 97, -6, 9.6),
            ("elbow", 50, 78, -6, 7.6),
            ("forearm", 55, 62, 0, 9.2),
            ("wrist", 60, 45, 5, 6.0),
            ("palm", 62, 36, 8, 7.4),
        ],
        pair=True,
    )
    _hand(b, "palm", (62, 36, 8), 2.0)
    b.chain("palm", [("thumb 1", 59, 36, 16.5, 3.4), ("thumb 2", 60, 28, 20.5, 2.8)], pair=True)
    b.chain(
        "pelvis",
        [
            ("hip", 14, 56, -2, 15),
            ("thigh", 18, 43, 0, 13),
            ("knee", 20, 28, 2, 8.8),
            ("calf", 20, 19, -2, 8.8),
            ("ankle", 20, 8, -4, 6.0),
            ("heel", 20, 4.6, -9, 4.8),
        ],
        pair=True,
    )
    b.chain("ankle", [("ball of foot", 22.5, 5.2, 11, 6.0)], pair=True)
    _toes(b, "ball of foot", 22.5, 14, 5.0, 2.6)
    return b.made(1.8)


def four_legged() -> Armature:
    """A beast on four legs with a long neck and tail; it looks along z."""
    b = Builder("hips", 0, 76, -38, 15)
    b.chain(
        "hips",
        [("belly", 0, 74, -12, 15), ("ribs", 0, 74, 14, 18), ("withers", 0, 82, 34, 14)],
    )
    b.chain(
        "withers",
        [
            ("neck 1", 0, 95, 48, 10),
            ("neck 2", 0, 110, 58, 8),
            ("skull", 0, 120, 68, 9),
            ("muzzle", 0, 115, 83, 5.5),
            ("nose", 0, 112, 92, 3.8),
        ],
    )
    b.chain("skull", [("ear", 6, 129, 63, 2.6), ("ear tip", 9, 140, 60, 1.2)], pair=True)
    b.chain("hips", [("tail 1", 0, 80, -54, 6), ("tail 2", 0, 72, -74, 4), ("tail 3", 0, 58, -90, 2.4), ("tail tip", 0, 47, -100, 1.4)])  # fmt: skip
    b.chain(
        "withers",
        [
            ("shoulder blade", 11, 78, 34, 10),
            ("shoulder", 14, 62, 40, 9),
            ("elbow", 14, 48, 32, 6.5),
            ("wrist", 14, 24, 35, 4.2),
            ("fetlock", 14, 8, 34, 3.6),
            ("paw", 14, 3.6, 40, 4.0),
        ],
        pair=True,
    )
    b.chain(
        "hips",
        [
            ("hip", 11, 70, -40, 12),
            ("knee", 14, 47, -32, 8),
            ("hock", 14, 28, -48, 4.6),
            ("hind fetlock", 14, 9, -45, 3.6),
            ("hind paw", 14, 3.6, -39, 4.0),
        ],
        pair=True,
    )
    for name, foot, z in (("front", "paw", 43.0), ("hind", "hind paw", -36.0)):
        for number, x in enumerate((10.6, 13.0, 15.2, 17.4)):
            b.chain(foot, [(f"{name} claw {number + 1}", x, 2.2, z + 4.5, 1.9)], pair=True)
    return b.made(1.1)


def bird() -> Armature:
    """A wading bird: small body, long neck and legs, wings folded away from the body."""
    b = Builder("body", 0, 92, -6, 15)
    b.chain("body", [("breast", 0, 98, 10, 13), ("shoulders", 0, 108, 14, 8)])
    b.chain(
        "shoulders",
        [
            ("neck 1", 0, 120, 22, 4.6),
            ("neck 2", 0, 134, 20, 3.6),
            ("neck 3", 0, 147, 12, 3.2),
            ("neck 4", 0, 160, 14, 3.2),
            ("skull", 0, 169, 21, 5.6),
            ("bill root", 0, 168, 29, 2.7),
            ("bill", 0, 165, 46, 1.6),
            ("bill tip", 0, 163, 58, 0.8),
        ],
    )
    b.chain("body", [("tail root", 0, 86, -24, 8), ("tail", 0, 78, -42, 4), ("tail tip", 0, 73, -52, 2)])
    b.chain(
        "shoulders",
        [
            ("wing shoulder", 12, 106, 10, 6),
            ("wing elbow", 25, 92, -8, 4.6),
            ("wing wrist", 33, 100, 8, 3.8),
            ("wing hand", 38, 84, -14, 3.2),
            ("wing tip", 38, 70, -38, 1.8),
        ],
        pair=True,
    )
    b.chain(
        "body",
        [
            ("hip", 8, 84, -5, 8),
            ("knee", 9, 70, 3, 5.0),
            ("hock", 9, 40, -5, 2.6),
            ("foot", 9, 5, -1, 2.2),
        ],
        pair=True,
    )
    for name, x, z in (("inner", 5.0, 15.0), ("middle", 9.5, 18.0), ("outer", 14.5, 14.0)):
        b.chain("foot", [(f"{name} toe", (9 + x) / 2, 2.2, z / 2, 1.7), (f"{name} toe tip", x, 1.3, z, 1.0)], pair=True)  # fmt: skip
    b.chain("foot", [("hind toe", 9, 2.0, -7, 1.6), ("hind toe tip", 9, 1.3, -13, 1.0)], pair=True)
    return b.made(1.1)


def serpent() -> Armature:
    """A long body that lies in waves, its head raised."""
    b = Builder("skull", 0, 62, 62, 9)
    b.chain("skull", [("muzzle", 0, 58, 76, 6), ("nose", 0, 56, 85, 4)])
    spine: list[Ball] = [("neck 1", 0, 54, 50, 6.4), ("neck 2", 0, 38, 44, 6.8)]
    places = [
        (4, 22, 42),
        (16, 11, 38),
        (30, 9, 26),
        (32, 9.5, 8),
        (18, 10, -4),
        (-4, 10.5, -8),
        (-26, 10, -14),
    ]
    places += [(-38, 9, -30), (-32, 7.5, -46), (-12, 6, -52), (8, 4.6, -56), (24, 3.4, -64), (34, 2.4, -74)]
    radii = [7.4, 8.2, 8.8, 9.2, 9.6, 9.8, 9.4, 8.6, 7.2, 5.8, 4.4, 3.2, 2.0]
    spine += [
        (f"spine {i + 1}", float(x), float(y), float(z), r)
        for i, ((x, y, z), r) in enumerate(zip(places, radii, strict=True))
    ]
    b.chain("skull", spine)
    return b.made(2.8)


def hand() -> Armature:
    """A left hand with four fingers and a thumb, its palm down."""
    b = Builder("wrist", -1, 0, -46, 15)
    b.chain("wrist", [("forearm", -1, 2, -84, 16)])
    b.chain("wrist", [("heel of hand", 0, 0, -24, 16)])
    for number, (x, long, r) in enumerate(((-19, 66, 8.4), (-5, 76, 8.8), (9, 70, 8.4), (22, 54, 7.2))):
        name = ("index", "middle", "ring", "little")[number]
        fan = (x + 2) * 0.25
        b.chain(
            "heel of hand",
            [
                (f"{name} knuckle", x, 3 - abs(x) * 0.06, 20 - abs(x + 3) * 0.22, r + 1.4),
                (f"{name} 1", x + fan * 0.45, 4, 20 + long * 0.45, r),
                (f"{name} 2", x + fan * 0.75, 1, 20 + long * 0.77, r * 0.9),
                (f"{name} tip", x + fan, -3, 20 + long, r * 0.78),
            ],
        )
    b.chain(
        "wrist",
        [("thumb root", -17, -3, -26, 11.5), ("thumb 1", -37, -6, -4, 9.6), ("thumb 2", -50, -7, 17, 8.6), ("thumb tip", -55, -8, 33, 7.2)],
    )  # fmt: skip
    return b.made(3.0, 0.2)


BODIES: dict[str, tuple[str, Callable[[], Armature]]] = {
    "slender": ("Slender body", biped_slender),
    "heavy": ("Heavy body", biped_heavy),
    "four-legged": ("Four-legged beast", four_legged),
    "bird": ("Wading bird", bird),
    "serpent": ("Serpent", serpent),
    "hand": ("Hand", hand),
}
"""Key, name, and what makes it."""
