"""Perform: the clay posed."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING

from kneten.app.benches.perform import commands
from kneten.app.benches.perform.check_card import CheckCard
from kneten.app.benches.perform.fitting import Fitting
from kneten.app.benches.perform.playing import Playing
from kneten.app.benches.perform.pose_card import PoseCard
from kneten.app.benches.perform.posing import Posing
from kneten.app.benches.perform.rig_card import RigCard
from kneten.app.benches.perform.rigging import Rigging
from kneten.app.benches.perform.shape_card import ShapeCard
from kneten.app.benches.perform.shape_checking import FindLayer, ShapeChecking
from kneten.app.benches.perform.shape_files import ShapeFiles
from kneten.app.benches.perform.shape_tools import ShapeTools
from kneten.app.benches.perform.shaping import Shaping

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk


def install(desk: Desk) -> None:
    """Offer what the bench does, and its commands."""
    desk.offer("posing", Posing(desk))
    desk.offer("rigging", Rigging(desk))
    desk.offer("fitting", Fitting(desk))
    desk.offer("playing", Playing(desk))
    desk.offer("shaping", Shaping(desk))
    desk.offer("shape_tools", ShapeTools(desk))
    desk.offer("shape_files", ShapeFiles(desk))
    desk.offer("shape_checking", ShapeChecking(desk))
    commands.register(desk)


def furnish(desk: Desk) -> None:
    """Put up its cards and overlays."""
    desk.add_card("Pose", "pose_card", partial(PoseCard, desk))
    desk.add_card("Rig", "rig_card", partial(RigCard, desk))
    desk.add_card("Shapes", "shape_card", partial(ShapeCard, desk))
    desk.add_card("Shape check", "check_card", partial(CheckCard, desk))
    desk.view.add_overlay(FindLayer(desk.view, desk))
