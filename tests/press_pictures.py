"""Draws the small pictures of all presses that come along with Kneten: `python -m tests.press_pictures`."""

from __future__ import annotations

import numpy as np
from PIL import Image

from kneten.app.work.press_shelf import ACROSS, PICTURE, SHEET, shaded
from kneten.core.presses.library import library


def main() -> None:
    entries = list(library().values())
    rows = -(-len(entries) // ACROSS)
    sheet = np.zeros((rows * PICTURE, ACROSS * PICTURE, 4), np.uint8)
    for count, entry in enumerate(entries):
        pixels = shaded(entry.made())
        high, wide = pixels.shape[:2]
        top = count // ACROSS * PICTURE + (PICTURE - high) // 2
        left = count % ACROSS * PICTURE + (PICTURE - wide) // 2
        sheet[top : top + high, left : left + wide, :3] = pixels
        sheet[top : top + high, left : left + wide, 3] = 255
        print(entry.key, flush=True)
    Image.fromarray(sheet).save(SHEET, "WEBP", quality=82, method=6)
    print(f"{SHEET.stat().st_size / 1e3:.0f} kB")


if __name__ == "__main__":
    main()
