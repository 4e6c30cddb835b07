"""Pull: drags what is under the brush along with the cursor, and keeps the region it grabbed."""

from __future__ import annotations

from kneten.core.arrays import F32, F64, I32, kernel
from kneten.core.brushes.tool import BrushSettings, Dab, Tool
from kneten.core.mesh import Mesh
from kneten.core.reach import Reach, add_push, over
from kneten.core.workspace import Workspace


@kernel
def pull_kernel(places: I32, weights: F32, x: float, y: float, z: float, push: F64, push_weight: F64) -> None:
    """Bring vertices along by one way, as far as each is held."""
    for i in range(places.shape[0]):
        add_push(push, push_weight, places[i], weights[i], x, y, z)


def displace(mesh: Mesh, work: Workspace, reach: Reach, dab: Dab) -> None:
    """Ask for the whole way from where the clay was grabbed: `dab.along` is that way."""
    x, y, z = dab.along
    over(
        reach,
        lambda rows: pull_kernel(
            reach.places[rows], reach.weights[rows], x, y, z, work.push, work.push_weight
        ),
    )


TOOL = Tool(
    key="pull",
    name="Pull",
    does="Drags the clay along with the cursor",
    displace=displace,
    defaults=BrushSettings(size=90, strength=1.0, pressure_strength=False),
    holds=True,
    whole=True,
    variants=(
        ("", "With the picture", "Brings the clay along with the cursor"),
        ("normal", "Along the normal", "Draws the clay straight out of the surface: up is out"),
        ("surface", "Over the surface", "Takes along what is near over the surface, not through space"),
    ),
)
