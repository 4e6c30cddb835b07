"""The stages: which commands stand on the rack and which cards are at hand in each."""

from __future__ import annotations

from kneten.core.brushes.toolbox import TOOLS

STAGES: dict[str, list[tuple[str, str]]] = {
    "Gather": [
        ("board.show", "board"),
        ("measure.ruler", "ruler"),
        ("measure.tape", "tape"),
        ("measure.landmark", "landmark"),
        ("library.open", "library"),
        ("parts.move", "move"),
        ("parts.turn", "turn"),
        ("parts.scale", "scale"),
    ],
    "Block": [
        ("parts.move", "move"),
        ("parts.turn", "turn"),
        ("parts.scale", "scale"),
        ("live.sphere", "ball"),
        ("live.box", "box"),
        ("armature.edit", "armature"),
        ("strand.free", "strand"),
        ("strand.surface", "strand-on"),
        ("live.lathe", "lathe"),
        ("cut.lasso", "cut"),
        ("cut.line", "cut-line"),
        ("copy.mirror-x", "mirror"),
        ("parts.fuse", "fuse"),
        ("join.subtract", "subtract"),
        ("join.intersect", "intersect"),
        ("parts.pivot", "pivot"),
        ("parts.onto", "onto"),
        ("parts.floor", "floor"),
        ("live.bake", "bake"),
        ("tool.pull", "pull"),
        ("tool.raise", "raise"),
        ("tool.smooth", "smooth"),
    ],
    "Form": [*((f"tool.{key}", key) for key in TOOLS), ("guide.draw", "guide")],
    "Deliver": [
        ("file.export", "export"),
        ("file.still", "picture"),
        ("density.remesh", "even"),
        ("parts.move", "move"),
        ("parts.turn", "turn"),
        ("parts.scale", "scale"),
        ("tool.smooth", "smooth"),
        ("tool.flatten", "flatten"),
    ],
}
"""Which commands each stage puts on the rack."""

CARDS = {
    "Gather": ("Parts", "Proportion", "View"),
    "Block": ("Parts", "Live part", "Place", "Density", "Proportion", "View"),
    "Form": (
        "Parts",
        "Tool",
        "Stroke",
        "Levels",
        "Layers",
        "Symmetry",
        "Mask",
        "Regions",
        "Peel",
        "Deform",
        "View",
        "Density",
        "Carry over",
        "Round trip",
        "Health",
        "Place",
    ),
    "Deliver": ("Parts", "Density", "Round trip", "Carry over", "Health", "View", "Place"),
}
"""Which cards each stage puts first; the others follow in the order of `REST`."""

REST = (
    "Live part",
    "Place",
    "Density",
    "Tool",
    "Stroke",
    "Levels",
    "Layers",
    "Symmetry",
    "Mask",
    "Regions",
    "Peel",
    "Deform",
    "Proportion",
    "Carry over",
    "Round trip",
    "Health",
    "View",
)

DRAWINGS = {key: drawing for entries in STAGES.values() for key, drawing in entries}
"""The drawing of every command that can stand on a rack."""
