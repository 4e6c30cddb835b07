"""Show: light, surroundings, the picture."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING

from kneten.app.benches.show import commands
from kneten.app.benches.show.around_card import AroundCard
from kneten.app.benches.show.camera_frame import CameraFrame
from kneten.app.benches.show.cameras_card import CamerasCard
from kneten.app.benches.show.finish_card import FinishCard
from kneten.app.benches.show.lamp_marks import LampMarks
from kneten.app.benches.show.light_card import LightCard
from kneten.app.benches.show.lights import Lights
from kneten.app.benches.show.output_card import OutputCard
from kneten.app.benches.show.pictures import Pictures
from kneten.app.benches.show.reels import Reels
from kneten.app.benches.show.sheets import Sheets
from kneten.app.benches.show.trace_card import TraceCard
from kneten.app.benches.show.traces import Traces

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk


def install(desk: Desk) -> None:
    """Offer what the bench does, and its commands."""
    desk.offer("lights", Lights(desk))
    desk.offer("pictures", Pictures(desk))
    desk.offer("traces", Traces(desk))
    desk.offer("sheets", Sheets(desk))
    desk.offer("reels", Reels(desk))
    commands.register(desk)


def furnish(desk: Desk) -> None:
    """Put up its cards."""
    desk.add_card("Light", "light_card", partial(LightCard, desk))
    desk.add_card("Surroundings", "around_card", partial(AroundCard, desk))
    frame = CameraFrame(desk.view, desk.pictures)
    desk.add_card("Cameras", "cameras_card", partial(CamerasCard, desk, frame))
    desk.add_card("Finish", "finish_card", partial(FinishCard, desk))
    desk.add_card("Ray-traced still", "trace_card", partial(TraceCard, desk))
    desk.add_card("Pictures and films", "output_card", partial(OutputCard, desk))
    desk.view.add_overlay(frame)
    desk.view.add_overlay(LampMarks(desk.view, desk.lights))
