"""Reference pictures: read, kept with the project, put on the board, into space, or behind a saved view."""

from __future__ import annotations

import hashlib
import io
from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from PIL import Image, ImageOps, UnidentifiedImageError
from PySide6.QtCore import QBuffer, QByteArray, QIODevice, QMimeData, QPointF, QRectF, QTimer
from PySide6.QtGui import QGuiApplication, QImage, QPainter, QPolygonF, QTransform

from kneten.app.benches.gather.plane_modes import AlignPlaneMode, PlacePlaneMode
from kneten.app.work import dialogs
from kneten.core.arrays import F64, AnyArray, Progress
from kneten.core.planes import ORDER, to_scene, turned
from kneten.document.kinds import tidied
from kneten.document.things import Reference

if TYPE_CHECKING:
    from kneten.app.view.canvas import Canvas
    from kneten.app.view.desk import Desk

ENDINGS = {"PNG": ".png", "JPEG": ".jpg", "WEBP": ".webp", "TIFF": ".tif"}

SHOWN = 2048
"""Longest side in pixels at which a picture is shown; the original is kept whole."""

MOST_PIXELS = 400_000_000
"""Pixels of a picture at most: it takes 1.2 GB while it is read."""


class PictureError(ValueError):
    """The picture cannot be used. The text says why and what to do."""


def read_picture(data: bytes, name: str) -> tuple[str, bytes]:
    """Check a picture; its key among the originals, and its bytes as they came. Raises `PictureError`."""
    try:
        # The limit is our own, with a message that helps.
        Image.MAX_IMAGE_PIXELS = None
        with Image.open(io.BytesIO(data)) as image:
            kind = image.format or ""
            width, height = image.size
            if kind not in ENDINGS:
                raise PictureError(f"{name} is a {kind} file. PNG, JPEG, WebP and TIFF can be used.")
            if width * height > MOST_PIXELS:
                raise PictureError(
                    f"{name} has {width * height / 1e6:,.0f} megapixels; {MOST_PIXELS / 1e6:,.0f} is the most. "
                    "Make it smaller first."
                )
            image.draft("RGB", (SHOWN, SHOWN))
            image.load()
    except PictureError:
        raise
    except UnidentifiedImageError as error:
        raise PictureError(f"{name} is not a picture that can be read (PNG, JPEG, WebP, TIFF).") from error
    except (OSError, ValueError, SyntaxError, MemoryError, Image.DecompressionBombError) as error:
        raise PictureError(f"{name} is damaged and cannot be read ({error}).") from error
    return hashlib.sha256(data).hexdigest()[:24] + ENDINGS[kind], data


AT_ONCE = 3_000_000
"""Pixels up to which a picture is read at once, in some 50 ms; others stand grey until they have been read aside."""


def shown_size(data: bytes, reference: Reference) -> tuple[int, int, int]:
    """Pixels across and down that a reference is shown with, and how many the original has; 0 for an unreadable one."""
    Image.MAX_IMAGE_PIXELS = None
    try:
        with Image.open(io.BytesIO(data)) as opened:
            width, height = opened.size
            if opened.getexif().get(0x0112, 1) in (5, 6, 7, 8):
                width, height = height, width
    except Exception:
        return 64, 48, 0
    left, top, right, bottom = reference.crop
    shown = width * (right - left), height * (bottom - top)
    share = min(SHOWN / max(*shown, 1.0), 1.0)
    pixels = width * height if width * height <= MOST_PIXELS else 0
    return max(round(shown[0] * share), 1), max(round(shown[1] * share), 1), pixels


def _image_of(data: bytes, reference: Reference) -> QImage:
    """A reference as it is shown; grey where it cannot be read."""
    try:
        return shown_image(data, reference)
    except Exception:
        grey = QImage(64, 48, QImage.Format.Format_RGB32)
        grey.fill(0x808080)
        return grey


def shown_image(data: bytes, reference: Reference) -> QImage:
    """A reference as it is shown: cropped, mirrored, grey, at most `SHOWN` pixels long."""
    Image.MAX_IMAGE_PIXELS = None
    with Image.open(io.BytesIO(data)) as opened:
        if opened.width * opened.height > MOST_PIXELS:
            raise PictureError("the picture is too large to be shown")
        opened.draft("RGB", (SHOWN, SHOWN))
        image = ImageOps.exif_transpose(opened).convert("RGBA")
    left, top, right, bottom = reference.crop
    width, height = image.size
    box = (round(left * width), round(top * height), round(right * width), round(bottom * height))
    image = image.crop((box[0], box[1], max(box[2], box[0] + 1), max(box[3], box[1] + 1)))
    image.thumbnail((SHOWN, SHOWN), Image.Resampling.LANCZOS)
    if reference.mirror:
        image = ImageOps.mirror(image)
    if reference.grey:
        alpha = image.getchannel("A")
        image = Image.merge("RGBA", [*[image.convert("L")] * 3, alpha])
    raw = image.tobytes()
    made = QImage(raw, image.width, image.height, image.width * 4, QImage.Format.Format_RGBA8888)
    return made.copy()


class References:
    """Everything around reference pictures.

    Attributes
    ----------
    on : bool
        Whether planes and bound pictures are shown.
    fading : pair or None
        Id of a picture and the opacity it is shown with while that is being dragged.
    """

    def __init__(self, desk: Desk) -> None:
        self._desk = desk
        self._studio = desk.studio
        self._images: dict[tuple[object, ...], QImage] = {}
        self.on = True
        self._trial: Reference | None = None
        self.fading: tuple[str, float] | None = None
        self._blinks = QTimer(desk)
        self._blinks.setInterval(500)
        self._blinks.timeout.connect(self._blink_on)
        self._blink_shown = True

    @property
    def _scene(self):  # type: ignore[no-untyped-def]
        return self._studio.project.scene

    @staticmethod
    def _key(reference: Reference) -> tuple[object, ...]:
        return (reference.picture, reference.crop, reference.mirror, reference.grey)

    def pixels(self, reference: Reference) -> AnyArray:
        """The sRGB codes of a reference as it is shown, (n, 3); what is clear in it is left out."""
        image = self.image(reference).convertToFormat(QImage.Format.Format_RGBA8888)
        codes = np.frombuffer(image.constBits(), np.uint8).reshape(image.height(), -1)[:, : 4 * image.width()]
        table = codes.reshape(-1, 4)
        return table[table[:, 3] > 128, :3].copy()

    def image(self, reference: Reference) -> QImage:
        """The picture of a reference as it is shown, kept for the next time."""
        key = self._key(reference)
        if key not in self._images:
            data = self._studio.project.settings.originals.get(reference.picture, b"")
            wide, high, pixels = shown_size(data, reference)
            if 0 < pixels <= AT_ONCE:
                self._images[key] = _image_of(data, reference)
            else:
                grey = QImage(wide, high, QImage.Format.Format_RGB32)
                grey.fill(0x808080)
                self._images[key] = grey
                if pixels:
                    self._studio.aside(
                        lambda: _image_of(data, reference), lambda image: self._arrived(key, image)
                    )
            while len(self._images) > 64:
                self._images.pop(next(iter(self._images)))
        return self._images[key]

    def _arrived(self, key: tuple[object, ...], image: QImage) -> None:
        """A large picture has been read: show it where a grey one stood for it."""
        if key in self._images:
            self._images[key] = image
            self._desk.view.repaint_over()
            self._studio.scene_changed.emit()

    # -- adding ---------------------------------------------------------------------------------

    def ask(self) -> None:
        """Ask for pictures and put them on the board."""
        self.add_files(dialogs.ask_pictures(self._desk))

    def add_files(self, paths: Sequence[Path]) -> None:
        """Read pictures on another thread; each that cannot be used is said."""
        if not paths:
            return

        def read(progress: Progress) -> tuple[list[tuple[str, str, bytes]], list[str]]:
            found, wrong = [], []
            for count, path in enumerate(paths):
                progress.report(count / len(paths), path.name)
                try:
                    key, data = read_picture(path.read_bytes(), path.name)
                    found.append((path.stem, key, data))
                    # What is shown of it is made here as well: a large one takes seconds.
                    plain = Reference(path.stem, key)
                    self._images[self._key(plain)] = shown_image(data, plain)
                except PictureError as error:
                    wrong.append(str(error))
                except OSError as error:
                    wrong.append(f"{path.name} cannot be read: {error.strerror}.")
            return found, wrong

        def done(result: tuple[list[tuple[str, str, bytes]], list[str]]) -> None:
            found, wrong = result
            for text in wrong:
                self._studio.say(text, "error")
            self.put(found)

        self._studio.start("Add pictures", read, done)

    def put(self, pictures: Sequence[tuple[str, str, bytes]]) -> None:
        """Put read pictures (name, key, bytes) on the board, beside what lies there."""
        if not pictures:
            return
        project = self._studio.project
        originals = dict(project.settings.originals)
        new = []
        x = max(
            (r.place[0] + self._wide(r) / 2 for r in self._scene.references if r.way == "board"), default=0.0
        )
        for name, key, data in pictures:
            originals[key] = data
            project.try_settings(originals=dict(originals))
            reference = Reference(name, key)
            image = self.image(reference)
            scale = 320.0 / max(image.width(), image.height(), 1)
            wide = image.width() * scale
            new.append(replace(reference, place=(x + 16 + wide / 2, 0.0), scale=scale))
            x += 16 + wide
        project.change_settings(originals=originals)
        what = new[0].name if len(new) == 1 else f"{len(new)} pictures"
        project.change(f"Add {what}", replace(self._scene, references=(*self._scene.references, *new)))
        self._desk.board.show_board()

    def _wide(self, reference: Reference) -> float:
        return self.image(reference).width() * reference.scale

    def nothing_to_paste(self) -> str:
        """Why nothing can be pasted."""
        data = QGuiApplication.clipboard().mimeData()
        has = data is not None and (data.hasImage() or data.hasUrls())
        return "" if has else "There is no picture on the clipboard."

    def paste(self) -> None:
        """Put the clipboard's picture on the board."""
        self.take(QGuiApplication.clipboard().mimeData(), "Pasted")

    def take(self, data: QMimeData, name: str) -> None:
        """Put what was pasted or dropped on the board: picture files, or a picture itself; what is neither is told."""
        paths = [Path(url.toLocalFile()) for url in data.urls() if url.isLocalFile()]
        image = data.imageData() if data.hasImage() else None
        if paths:
            self.add_files(paths)
        elif isinstance(image, QImage) and not image.isNull():
            self._add_image(image, name)
        elif data.hasUrls():
            self._studio.say(
                f"{data.urls()[0].toDisplayString()} is a link, not a picture. Kneten does not go to the net: copy the "
                "picture itself and paste it here, or save it and drop the file.",
                "warning",
            )
        else:
            self._studio.say("There is no picture in it.")

    def _add_image(self, image: QImage, name: str) -> None:
        raw = QByteArray()
        buffer = QBuffer(raw)
        buffer.open(QIODevice.OpenModeFlag.WriteOnly)
        image.save(buffer, "PNG")  # type: ignore[call-overload]  # PySide's own stubs want bytes
        try:
            key, png = read_picture(bytes(raw.data()), "The picture")
        except PictureError as error:
            self._studio.say(str(error), "error")
            return
        self.put([(name, key, png)])

    # -- changing -------------------------------------------------------------------------------

    def change(self, reference_id: str, what: str, **values: Any) -> None:
        """Change one reference, as one undo step."""
        old = next((r for r in self._scene.references if r.id == reference_id), None)
        if old is None:
            return
        new = replace(old, **values)
        if new != old:
            references = tuple(new if r.id == reference_id else r for r in self._scene.references)
            self._studio.project.change(f"{what} {old.name}", replace(self._scene, references=references))

    def delete(self, ids: Sequence[str]) -> None:
        """Take references away; their pictures stay with the project for undo."""
        gone = [r for r in self._scene.references if r.id in ids]
        if gone:
            rest = tuple(r for r in self._scene.references if r.id not in ids)
            what = gone[0].name if len(gone) == 1 else f"{len(gone)} pictures"
            self._studio.project.change(f"Delete {what}", tidied(replace(self._scene, references=rest)))

    def empty(self) -> str:
        """Why there is nothing to arrange."""
        return "" if any(r.way == "board" for r in self._scene.references) else "The board is empty."

    def arrange(self) -> None:
        """Lay the board's pictures out in rows of the same height."""
        on_board = [r for r in self._scene.references if r.way == "board"]
        height, wide_all, gap = 240.0, 0.0, 14.0
        sizes = []
        for r in on_board:
            image = self.image(r)
            scale = height / max(image.height(), 1)
            sizes.append((scale, image.width() * scale))
            wide_all += image.width() * scale + gap
        row_width = max(np.sqrt(wide_all * (height + gap)) * 1.1, max(w for _, w in sizes))
        x = y = 0.0
        placed = {}
        for r, (scale, wide) in zip(on_board, sizes, strict=True):
            if x > 0 and x + wide > row_width:
                x, y = 0.0, y + height + gap
            placed[r.id] = replace(r, place=(x + wide / 2, y + height / 2), scale=scale, turn=0.0)
            x += wide + gap
        references = tuple(placed.get(r.id, r) for r in self._scene.references)
        self._studio.project.change("Arrange the board", replace(self._scene, references=references))
        self._desk.board.frame()

    # -- board ----------------------------------------------------------------------------------

    def switch_board(self) -> None:
        """Show the board, or hide it."""
        self._desk.board.switch()

    def set_place(self, place: str) -> None:
        """Have the board beside the view, over it, or in a window."""
        self._studio.preferences.board = place
        self._desk.board.show_board()

    # -- space ----------------------------------------------------------------------------------

    def to_plane(self, reference_id: str, way: str) -> None:
        """Stand a picture as a plane: front, side or top; as high as what is there."""
        reference = next(r for r in self._scene.references if r.id == reference_id)
        low, high = self._scene.bounds()
        tall = float((high - low)[2 if way == "top" else 1])
        scale = tall / max(self.image(reference).height(), 1)
        middle = (low + high) / 2
        place = {
            "front": (float(middle[0]), float(middle[1])),
            "side": (float(middle[2]), float(middle[1])),
            "top": (float(middle[0]), float(middle[2])),
        }[way]
        depth = {"front": float(low[2]), "side": float(low[0]), "top": float(low[1])}[way]
        self.on = True
        self.change(reference_id, "Stand up", way=way, place=place, scale=scale, depth=depth, turn=0.0)

    def calibrate(
        self, reference_id: str, a: tuple[float, float], b: tuple[float, float], length: float
    ) -> None:
        """Size a plane so that two places of its picture (shares of it) lie `length` mm apart.

        Raises
        ------
        PictureError
            When the places are the same, or the length is not greater than zero.
        """
        reference = next(r for r in self._scene.references if r.id == reference_id)
        image = self.image(reference)
        far = float(np.hypot((a[0] - b[0]) * image.width(), (a[1] - b[1]) * image.height()))
        if far < 1e-6 or not length > 0:
            raise PictureError("The two places must lie apart, and the length must be greater than zero.")
        self.change(reference_id, "Calibrate", scale=length / far)

    def bind(self, reference_id: str, over: bool = True) -> None:
        """Bind a picture to a new saved view of the present camera."""
        from kneten.document.settings import SavedView

        settings = self._studio.project.settings
        reference = next(r for r in self._scene.references if r.id == reference_id)
        saved = SavedView(reference.name, settings.camera, b"")
        self._studio.project.change_settings(views=(*settings.views, saved))
        self._desk.fill_card("view_card")
        self.on = True
        self.change(reference_id, "Bind", way="view", view=saved.id, over=over, opacity=0.5)

    def bound(self) -> list[Reference]:
        """The pictures bound to the view that is shown now."""
        settings = self._studio.project.settings
        here = {saved.id for saved in settings.views if saved.camera == settings.camera}
        return [r for r in self._scene.references if r.way == "view" and r.view in here and r.shown]

    def no_bound(self) -> str:
        """Why there is nothing to blink."""
        return "" if self.bound() else "No picture is bound to this view; go to its saved view first."

    def blink(self) -> None:
        """Show and hide the bound picture in turn, or end that."""
        if self._blinks.isActive():
            self._blinks.stop()
            self._blink_shown = True
        else:
            self._blinks.start()
        self._desk.view.repaint_over()

    def _blink_on(self) -> None:
        self._blink_shown = not self._blink_shown
        self._desk.view.repaint_over()

    def no_planes(self) -> str:
        """Why there are no planes to show."""
        has = any(r.way != "board" for r in self._scene.references)
        return "" if has else "No picture stands in space; do so in its menu on the board."

    def switch_planes(self) -> None:
        """Show planes and bound pictures, or hide them."""
        self.on = not self.on
        self._desk.view.refresh()

    def wants_under(self) -> bool:
        """Whether anything is to be painted behind the clay."""
        if not self.on:
            return False
        if any(not r.over for r in self.bound()):
            return True
        return any(not r.over for r in self.standing())

    def paint(self, painter: QPainter) -> None:
        """Paint what lies over the clay, in pixels of the pane in use."""
        self._paint(painter, True)

    def under(self) -> Callable[[QPainter], None] | None:
        """What paints behind the clay, while there is anything."""
        return (lambda painter: self._paint(painter, False)) if self.wants_under() else None

    def _paint(self, painter: QPainter, over: bool) -> None:
        view = self._desk.view
        if not self.on:
            return
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        for reference in self.standing():
            if reference.over == over:
                self._paint_plane(painter, view, reference)
        if self._blink_shown:
            for reference in self.bound():
                if reference.over == over:
                    self._paint_bound(painter, view, reference)
        painter.setOpacity(1.0)

    def plane_corners(self, reference: Reference) -> F64:
        """The corners of a plane in the scene, (4, 3): upper left, upper right, lower right, lower left."""
        wide, tall = self._half(reference)
        flat = np.array([(-wide, tall), (wide, tall), (wide, -tall), (-wide, -tall)])
        return to_scene(
            reference.way, turned(flat, reference.turn) + np.array(reference.place), reference.depth
        )

    def _half(self, reference: Reference) -> tuple[float, float]:
        """Half of a plane's width and height in millimetres."""
        image = self.image(reference)
        return image.width() * reference.scale / 2, image.height() * reference.scale / 2

    def holds(self, reference: Reference, at: F64) -> bool:
        """Whether a place (2,) of its plane lies on a picture."""
        off = turned((at - np.array(reference.place))[None], -reference.turn)[0]
        return bool((np.abs(off) <= np.array(self._half(reference))).all())

    def standing(self) -> list[Reference]:
        """The planes that are seen, as they are now or being dragged to."""
        shown = (r for r in self._scene.references if r.way in ORDER and r.shown) if self.on else ()
        trial = self._trial
        return [trial if trial is not None and trial.id == r.id else r for r in shown]

    def show_trial(self, reference: Reference | None) -> None:
        """Show a plane where it is being dragged to; None for all as they are."""
        self._trial = reference
        self._desk.view.refresh()

    def keep(self, reference: Reference, what: str) -> None:
        """Put a plane where it was dragged to, as one undo step."""
        self.change(
            reference.id, what, place=reference.place, scale=reference.scale, turn=reference.turn,
            depth=reference.depth,
        )  # fmt: skip

    def place_planes(self) -> None:
        """Drag planes in the view."""
        self._desk.view.toggle_mode(PlacePlaneMode(self._desk.view, self))

    def align_plane(self) -> None:
        """Bring two places of a plane onto two of the clay."""
        self._desk.view.toggle_mode(AlignPlaneMode(self._desk.view, self))

    def no_shown_planes(self) -> str:
        """Why there are no planes to place."""
        return self.no_planes() or ("" if self.standing() else "All pictures in space are hidden.")

    def _paint_plane(self, painter: QPainter, view: Canvas, reference: Reference) -> None:
        at = view.camera.project(self.plane_corners(reference), view.wide, view.high)
        if (at[:, 2] <= 1e-3).any():
            return
        image = self.image(reference)
        source = QPolygonF(
            [
                QPointF(0, 0),
                QPointF(image.width(), 0),
                QPointF(image.width(), image.height()),
                QPointF(0, image.height()),
            ]
        )
        goal = QPolygonF([QPointF(float(x), float(y)) for x, y, _ in at])
        placed = QTransform()
        if not QTransform.quadToQuad(source, goal, placed):
            return
        painter.save()
        painter.setOpacity(self._opacity(reference))
        painter.setTransform(placed, True)
        painter.drawImage(QPointF(0, 0), image)
        painter.restore()

    def _opacity(self, reference: Reference) -> float:
        if self.fading is not None and self.fading[0] == reference.id:
            return self.fading[1]
        return reference.opacity

    def _paint_bound(self, painter: QPainter, view: Canvas, reference: Reference) -> None:
        image = self.image(reference)
        # The picture fills the view's height; its width is what it is.
        tall = float(view.high)
        wide = tall * image.width() / max(image.height(), 1)
        painter.setOpacity(self._opacity(reference))
        painter.drawImage(QRectF((view.wide - wide) / 2, 0, wide, tall), image)
