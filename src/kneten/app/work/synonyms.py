"""Words of the trade for what has another name here: the finder looks for either."""

from __future__ import annotations

SYNONYMS: dict[str, tuple[str, ...]] = {
    "alpha": ("press",),
    "animation": ("motion", "clip"),
    "ao": ("occlusion",),
    "backup": ("milestone",),
    "blendshape": ("shape",),
    "bone": ("joint", "rig"),
    "boolean": ("subtract", "intersect", "fuse"),
    "brush": ("tool", "stroke"),
    "bump": ("displacement", "grain"),
    "clone": ("copy",),
    "combine": ("fuse", "one body"),
    "crease": ("pinch", "score"),
    "displace": ("displacement", "grain"),
    "duplicate": ("copy",),
    "envelope": ("armature",),
    "erase": ("erase", "restore"),
    "expression": ("shape",),
    "extract": ("peel", "shell"),
    "face group": ("region",),
    "flow": ("quad flow", "strip"),
    "fibre": ("fur",),
    "film": ("turntable", "reel"),
    "gloss": ("roughness", "material"),
    "grab": ("pull",),
    "hair": ("fur", "strand"),
    "hdri": ("sky", "surroundings"),
    "heat map": ("walls", "curvature"),
    "hide": ("hide", "isolate"),
    "history": ("undo", "milestone"),
    "keyframe": ("motion", "key"),
    "light": ("lamp", "light"),
    "lod": ("levels of detail", "level of detail"),
    "low poly": ("model", "decimate"),
    "merge": ("fuse", "one body", "weld"),
    "morph": ("shape",),
    "move": ("pull", "move"),
    "noise": ("grain",),
    "pattern": ("grain", "scatter"),
    "pedestal": ("base",),
    "plinth": ("base",),
    "polycount": ("density", "decimate"),
    "projection": ("carry over", "held picture"),
    "reduce": ("decimate", "coarsen"),
    "redo mesh": ("remesh",),
    "render": ("trace", "still"),
    "retopo": ("retopologise", "strips"),
    "rough": ("roughness", "material"),
    "screenshot": ("still",),
    "shell": ("hollow", "peel"),
    "skeleton": ("rig", "joint", "armature"),
    "slice": ("cut", "layer"),
    "snapshot": ("milestone",),
    "spin": ("turntable", "turn"),
    "spray": ("paint",),
    "stamp": ("press",),
    "stencil": ("held picture", "press"),
    "subdivide": ("level",),
    "supports": ("overhang",),
    "texture": ("map", "paint", "grain"),
    "thickness": ("walls", "thicken"),
    "topology": ("retopologise", "net"),
    "transform": ("move", "turn", "scale"),
    "trim": ("cut",),
    "tube": ("strand",),
    "unfold": ("unwrap",),
    "uv map": ("unwrap", "uv"),
    "video": ("turntable", "reel"),
    "voxel": ("remesh",),
    "watertight": ("one body", "health", "check"),
    "weight": ("weights", "check print"),
    "wireframe": ("edges", "wire"),
    "zip": ("packed",),
}
"""Plain words of the trade, and what stands in names and deeds of commands for each."""


def meant(word: str) -> tuple[str, ...]:
    """What a word, or the beginning of one, may stand for besides itself."""
    if len(word) < 2:
        return ()
    found: list[str] = []
    for key, others in SYNONYMS.items():
        if key == word or (len(word) >= 4 and key.startswith(word)) or (word == f"{key}s"):
            found += others
    return tuple(dict.fromkeys(found))
