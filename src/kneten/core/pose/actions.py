"""What a face can do, by the numbers and names of the facial action coding (Ekman and Friesen, 1978), with what moves in it."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Action:
    """One action of a face.

    Attributes
    ----------
    key : str
        Its number in the coding.
    name : str
    moves : str
        What moves, in words.
    """

    key: str
    name: str
    moves: str


ACTIONS: dict[str, Action] = {
    one.key: one
    for one in (
        Action("1", "Inner brow raiser", "The inner ends of the brows rise; folds across the middle of the forehead"),
        Action("2", "Outer brow raiser", "The outer ends of the brows rise; the lid's outer fold shows more"),
        Action("4", "Brow lowerer", "The brows sink and draw together; upright folds gather between them"),
        Action("5", "Upper lid raiser", "The upper lids draw back into their fold; more of the eye shows"),
        Action("6", "Cheek raiser", "The cheeks rise and press the lower lids up; folds run out from the eye's corner"),
        Action("7", "Lid tightener", "The lids tighten round the eye, the lower one rises and flattens"),
        Action("9", "Nose wrinkler", "The skin of the nose is drawn up; folds along its sides and across its root"),
        Action("10", "Upper lip raiser", "The upper lip rises, most halfway to the corner; the fold beside the nose deepens"),
        Action("11", "Fold deepener", "The fold from nose to cheek deepens in its middle"),
        Action("12", "Lip corner puller", "The corners of the mouth go up and out; the cheeks bunch above them"),
        Action("13", "Sharp lip puller", "The corners rise straight up; the cheeks puff above them"),
        Action("14", "Dimpler", "The corners are drawn in and tighten; a dent forms beside them"),
        Action("15", "Lip corner depressor", "The corners of the mouth sink; the chin's sides bulge"),
        Action("16", "Lower lip depressor", "The lower lip sinks and flattens; the lower teeth show"),
        Action("17", "Chin raiser", "The chin's pad rises and pushes the lower lip up; its skin dimples"),
        Action("18", "Lip pucker", "The lips draw together and forward, the mouth grows small"),
        Action("20", "Lip stretcher", "The corners go straight out; the lips grow long and thin"),
        Action("22", "Lip funneler", "The lips roll outwards and forward, open in the middle"),
        Action("23", "Lip tightener", "The lips tighten and narrow; their red shows less"),
        Action("24", "Lip pressor", "The lips press on each other; the skin above and below bulges"),
        Action("25", "Lips part", "The lips come apart; the jaw stays"),
        Action("26", "Jaw drop", "The jaw sinks by its own weight; teeth and tongue show"),
        Action("27", "Mouth stretch", "The jaw is pulled wide open; the cheeks stretch and hollow"),
        Action("28", "Lip suck", "The lips roll in over the teeth"),
        Action("29", "Jaw thrust", "The jaw goes forward, the lower teeth before the upper"),
        Action("30", "Jaw sideways", "The jaw goes to one side"),
        Action("33", "Cheek blow", "Air blows out; the cheeks swell while the lips part"),
        Action("34", "Cheek puff", "The closed mouth fills with air; the cheeks swell"),
        Action("35", "Cheek suck", "The cheeks are drawn in between the teeth"),
        Action("38", "Nostril dilator", "The wings of the nose spread"),
        Action("39", "Nostril compressor", "The wings of the nose press together"),
        Action("43", "Eye closure", "The upper lid comes down over the eye and meets the lower"),
        Action("46", "Wink", "One eye closes, its cheek rises a little"),
        Action("61", "Eyes turn left", "The eyes look to the left; the lids bulge where the cornea goes"),
        Action("62", "Eyes turn right", "The eyes look to the right; the lids bulge where the cornea goes"),
        Action("63", "Eyes up", "The eyes look up; the upper lid goes along"),
        Action("64", "Eyes down", "The eyes look down; both lids go along"),
    )
}  # fmt: skip

OPPOSITES = frozenset(
    frozenset(pair) for pair in (("61", "62"), ("63", "64"), ("5", "43"), ("38", "39"), ("34", "35"))
)
"""Actions that no face does at once: eyes that look up do not look down."""
