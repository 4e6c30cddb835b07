"""The commands of posing."""

from __future__ import annotations

from typing import TYPE_CHECKING

from kneten.app.work.commands import making

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk


def register(w: Desk) -> None:
    """Put all commands of this bench into the registry."""
    p = w.posing
    c = making("Perform")
    w.registry.add(
        c("pose.limb", "Pose", "Press on a limb: it bends there, softly, with all that sits on it; drag it, its ring, its band", p.enter, "", p.no_clay),
        c("pose.flip", "Other side", "Moves what lies on the other side of the hinge instead: the body, or the head", p.flip, "", p.no_limb),
        c("pose.mirror", "Pose both sides", "Poses the limb across the plane of symmetry as well, or only the one that was pressed", p.switch_mirror),
        c("pose.straighten", "Straighten", "Takes all bends, turns and lengths of the limb in hand back", p.straighten, "", p.no_limb),
    )  # fmt: skip
