"""Reference sketches for the demo, drawn by code: ink, wash and swatches."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PIL import Image, ImageDraw, ImageFilter

Spot = tuple[float, float]

PAPER = (226, 217, 200)
INK = (52, 46, 42)
REED = (140, 124, 74)
WATER = (108, 132, 128)


def _paper(width: int, height: int, seed: int) -> Image.Image:
    """A sheet with a little grain."""
    random = np.random.default_rng(seed)
    grain = random.normal(0, 3.2, (height, width, 1))
    warm = np.linspace(4, -6, height)[:, None, None]
    sheet = np.clip(np.array(PAPER) + grain + warm, 0, 255).astype(np.uint8)
    return Image.fromarray(sheet, "RGB")


def _curve(points: list[Spot], count: int = 60) -> list[Spot]:
    from kneten.core.live.curves import catmull_rom

    dense = catmull_rom(np.array(points, float), False, max(count // len(points), 4))
    return [(float(x), float(y)) for x, y in dense]


def _stroke(
    draw: ImageDraw.ImageDraw, points: list[Spot], width: float, colour: tuple[int, ...] = INK
) -> None:
    """A pen line that swells in its middle."""
    line = _curve(points)
    for i in range(len(line) - 1):
        t = i / max(len(line) - 2, 1)
        w = width * (0.45 + 0.55 * np.sin(np.pi * min(max(t, 0.03), 0.97)))
        draw.line([line[i], line[i + 1]], fill=colour, width=max(round(w), 1))


def _wash(image: Image.Image, outline: list[Spot], colour: tuple[int, int, int], strength: float) -> None:
    """A transparent tone within an outline, darker at its rim."""
    mask = Image.new("L", image.size, 0)
    ImageDraw.Draw(mask).polygon(outline, fill=int(255 * strength))
    soft = mask.filter(ImageFilter.GaussianBlur(3))
    image.paste(Image.new("RGB", image.size, colour), (0, 0), soft)


def side() -> Image.Image:
    """Her outline from the side."""
    image = _paper(460, 640, 1)
    body = [
        (150, 300),
        (190, 250),
        (250, 262),
        (300, 330),
        (330, 430),
        (300, 500),
        (190, 510),
        (130, 420),
        (150, 300),
    ]
    _wash(image, _curve([(float(x), float(y)) for x, y in body]), REED, 0.55)
    draw = ImageDraw.Draw(image)
    _stroke(draw, [(200, 262), (150, 200), (196, 140), (168, 92), (180, 66)], 9)
    _stroke(draw, [(228, 266), (196, 216), (226, 150), (204, 104), (206, 80)], 6)
    _stroke(draw, [(180, 66), (196, 54), (214, 66), (206, 84), (184, 84)], 5)
    _stroke(draw, [(182, 70), (120, 82), (66, 100)], 5)
    _stroke(draw, [(186, 82), (124, 92), (72, 104)], 3)
    _stroke(draw, [(120, 58), (170, 40), (206, 30), (242, 50), (284, 76)], 7)
    for x in range(150, 320, 13):
        _stroke(draw, [(x, 360), (x + (x - 230) * 0.12, 430), (x + (x - 230) * 0.2, 500)], 3, (96, 84, 50))
    for x in (200, 262):
        _stroke(draw, [(x, 506), (x - 6, 560), (x + 2, 610)], 5)
        _stroke(draw, [(x + 2, 610), (x - 34, 618)], 4)
        _stroke(draw, [(x + 2, 610), (x + 22, 620)], 4)
    draw.text((24, 600), "side, bowed", fill=INK)
    return image


def front() -> Image.Image:
    """Her masses from the front: hat, neck, bell of the coat."""
    image = _paper(460, 640, 2)
    coat = [(210, 250), (150, 330), (110, 500), (350, 500), (310, 330), (250, 250)]
    _wash(image, [(float(x), float(y)) for x, y in coat], REED, 0.6)
    _wash(image, [(130.0, 70.0), (230.0, 34.0), (330.0, 70.0), (230.0, 86.0)], (92, 78, 60), 0.7)
    draw = ImageDraw.Draw(image)
    for x in range(120, 350, 12):
        _stroke(
            draw, [(230 + (x - 230) * 0.35, 260), (230 + (x - 230) * 0.75, 380), (x, 500)], 3, (96, 84, 50)
        )
    _stroke(draw, [(130, 72), (230, 36), (330, 72)], 6)
    _stroke(draw, [(130, 72), (230, 90), (330, 72)], 4)
    _stroke(draw, [(214, 92), (210, 160), (216, 250)], 4)
    _stroke(draw, [(246, 92), (250, 160), (244, 250)], 4)
    _stroke(draw, [(230, 96), (229, 150), (230, 176)], 6)
    for x in (214, 246):
        draw.ellipse([x - 11, 92, x + 11, 114], outline=INK, width=3)
        draw.ellipse([x - 4, 99, x + 4, 107], fill=INK)
    for x in (196, 264):
        _stroke(draw, [(x, 500), (x, 560), (x, 612)], 5)
    draw.text((24, 600), "front, a bell", fill=INK)
    return image


def reeds() -> Image.Image:
    """A study of reeds and how they hang."""
    image = _paper(520, 420, 3)
    random = np.random.default_rng(9)
    draw = ImageDraw.Draw(image)
    for _ in range(130):
        x = random.uniform(20, 500)
        top, long = random.uniform(10, 60), random.uniform(180, 340)
        tone = random.uniform(0.6, 1.15)
        colour = tuple(int(min(c * tone, 255)) for c in REED)
        lean = random.uniform(-26, 26)
        _stroke(
            draw,
            [(x, top), (x + lean * 0.4, top + long * 0.5), (x + lean, top + long)],
            random.uniform(4, 9),
            colour,
        )
    return image


def swatches() -> Image.Image:
    """Colours of the lake and of her clothes."""
    image = _paper(520, 420, 4)
    colours = [
        REED,
        (96, 84, 50),
        WATER,
        (70, 92, 96),
        (196, 182, 150),
        (122, 66, 44),
        (52, 46, 42),
        (214, 206, 190),
        (158, 140, 112),
    ]
    for i, colour in enumerate(colours):
        x, y = 36 + (i % 3) * 156, 30 + (i // 3) * 124
        outline = [
            (x, y + 6),
            (x + 70, y),
            (x + 138, y + 8),
            (x + 132, y + 104),
            (x + 60, y + 110),
            (x + 4, y + 100),
        ]
        _wash(image, [(float(a), float(b)) for a, b in outline], colour, 0.95)
    return image


def neck() -> Image.Image:
    """How the neck folds."""
    image = _paper(380, 420, 5)
    draw = ImageDraw.Draw(image)
    for i, bend in enumerate((0.3, 0.65, 1.0)):
        x = 70 + i * 115
        points = [(x, 360), (x - 46 * bend, 280), (x + 30 * bend, 190), (x - 20 * bend, 110), (x, 60)]
        _stroke(draw, [(float(a), float(b)) for a, b in points], 12, WATER)
        _stroke(draw, [(float(a), float(b)) for a, b in points], 4)
        for a, b in points:
            draw.ellipse([a - 6, b - 6, a + 6, b + 6], outline=(122, 66, 44), width=2)
    return image


SKETCHES: tuple[tuple[str, str, Callable[[], Image.Image]], ...] = (
    ("Widow, side", "Bowed, but looks down on everybody", side),
    ("Widow, front", "The coat is a bell; the neck its handle", front),
    ("Reeds", "Three tiers, each hides the roots of the next", reeds),
    ("Colours", "", swatches),
    ("Neck", "Never straight", neck),
)
"""Name, note, and what draws it."""
