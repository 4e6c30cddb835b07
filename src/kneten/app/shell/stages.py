"""The stages: which commands stand on the rack and which cards are at hand in each."""

from __future__ import annotations

from kneten.core.brushes.toolbox import TOOLS

SURFACE = (
    "press", "raise", "inflate", "pellet", "coil", "score", "pinch", "smooth", "flatten", "shave", "burnish", "restore",
    "refine", "mask",
)  # fmt: skip
"""The tools of fine detail, in the order of the rack."""

PAINT = ("paint", "blend", "smudge", "lighten", "darken", "hue", "vivid", "erase")
"""The tools of colour, in the order of the rack."""

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
    "Form": [*((f"tool.{key}", key) for key in TOOLS if key not in PAINT), ("guide.draw", "guide")],
    "Surface": [
        *((f"tool.{key}", key) for key in SURFACE),
        ("press.shelf", "shelf"),
        ("press.from-view", "take"),
        ("guide.draw", "guide"),
        ("press.along-guides", "along"),
    ],
    "Colour": [
        *((f"tool.{key}", key) for key in PAINT),
        ("colour.pick", "pick"),
        ("colour.fill", "fill"),
        ("colour.swap", "swap"),
        ("tool.mask", "mask"),
        ("press.shelf", "shelf"),
        ("tool.smooth", "smooth"),
        ("tool.raise", "raise"),
    ],
    "Net": [
        ("net.retopologise", "quads"),
        ("net.flow", "flow"),
        ("net.poles", "poles"),
        ("net.model", "model"),
        ("net.strip", "strip"),
        ("guide.draw", "guide"),
        ("uv.seams", "seam"),
        ("uv.unwrap", "unwrap"),
        ("uv.checker", "checker"),
        ("uv.pane", "uvs"),
        ("maps.bake", "maps"),
        ("tool.mask", "mask"),
        ("tool.smooth", "smooth"),
        ("tool.flatten", "flatten"),
        ("tool.pull", "pull"),
    ],
    "Perform": [
        ("pose.limb", "pose"),
        ("pose.flip", "other-side"),
        ("pose.straighten", "straighten"),
        ("rig.pose", "rig"),
        ("shape.record", "shape"),
        ("tool.restore", "restore"),
        ("tool.pull", "pull"),
        ("tool.raise", "raise"),
        ("tool.smooth", "smooth"),
        ("tool.mask", "mask"),
        ("parts.move", "move"),
        ("parts.turn", "turn"),
    ],
    "Show": [
        ("light.drag", "lamp"),
        ("light.highlight", "highlight"),
        ("light.lit", "lit"),
        ("light.edge", "edge"),
        ("light.set-window", "window"),
        ("light.set-three", "three-lamps"),
        ("light.set-lantern", "lantern"),
        ("camera.add", "camera"),
        ("finish.focus", "focus"),
        ("file.still", "picture"),
        ("tool.raise", "raise"),
        ("tool.smooth", "smooth"),
        ("tool.paint", "paint"),
    ],
    "Deliver": [
        ("deliver.export", "export"),
        ("game.set", "game"),
        ("print.set", "printer"),
        ("print.check", "check"),
        ("print.body", "one-body"),
        ("print.thin", "walls"),
        ("print.thicken", "thicken"),
        ("print.hollow", "hollow"),
        ("print.drain", "drain"),
        ("print.cut", "pegs"),
        ("print.base", "base"),
        ("file.still", "picture"),
        ("parts.move", "move"),
        ("parts.turn", "turn"),
        ("parts.scale", "scale"),
    ],
}
"""Which commands each stage puts on the rack."""

CARDS: dict[str, tuple[str, ...]] = {
    "Gather": ("Parts", "Proportion", "View"),
    "Block": ("Parts", "Live part", "Place", "Density", "View"),
    "Form": ("Tool", "Stroke", "Parts", "Symmetry", "Mask", "Layers"),
    "Surface": ("Tip", "Tool", "Grain", "Rows and scatter", "Fur", "Layers"),
    "Colour": ("Colour", "Material", "Tool", "By form", "Layers", "Stroke"),
    "Net": ("Quads", "Net", "UVs", "Maps", "Parts", "Layers"),
    "Perform": ("Pose", "Rig", "Shapes", "Shape check", "Layers", "Tool"),
    "Show": ("Light", "Surroundings", "Cameras", "Finish", "Pictures and films", "Tool"),
    "Deliver": ("Files", "Print", "Print parts", "Game set", "Parts", "Health"),
}
"""Which cards each stage puts at hand, from the top: six at most. All others are in the list below them."""

DRAWINGS = {key: drawing for entries in STAGES.values() for key, drawing in entries}
"""The drawing of every command that can stand on a rack."""

WORDS: dict[str, str] = {
    "Gather": "Pictures, measures and proportions come together here, before the clay.",
    "Block": "Big bodies from balls, armatures, strands and cuts; join them when they sit.",
    "Form": "Anatomy and planes: tools, masks, regions, symmetry, guides, levels and layers.",
    "Surface": "Pores, folds, scales and fur: presses, grain, rows and scatter on fine levels.",
    "Colour": "Paint on layers, by hand, by form or through pictures, with roughness and wet.",
    "Net": "Clean quads, UVs and maps, so that others can go on with it.",
    "Perform": "Poses, joints, shapes of the face and motions; the clay at rest stays as it is.",
    "Show": "Lamps, sky, cameras and finish; stills, films and sheets.",
    "Deliver": "Files for others, game sets and prints, each looked through before it leaves.",
}
"""What each stage is for, said at its first visit."""
