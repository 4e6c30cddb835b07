"""The commands of posing."""

from __future__ import annotations

from typing import TYPE_CHECKING

from kneten.app.work.commands import Needs, making, needing

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
    r, m, g = w.rigging, w.playing, w.fitting
    w.registry.add(
        c("rig.from-armature", "Rig from armature", "Gives the part in hand the joints of the armature it came from, and takes along what sits on it", r.from_armature, "", r.no_armature),
        c("rig.fit", "Find joints", "Finds the joints of the part in hand from its form, as the kind of body that is chosen in the card; asks for what it does not find", g.find, "", r.no_part),
        c("rig.fit-take", "Take the joints", "Gives the part the joints that were found, with weights, and takes along what sits on it", g.take, "", g.none_shown),
        c("rig.fit-skip", "It has none", "Goes on without what is asked for", g.skip, "", g.none_asked),
        c("rig.place", "Place joints", "Press on limbs to put joints into the middle of them, drag them, take them away; the body rests meanwhile", r.place, "", r.no_part),
        c("rig.pose", "Pose rig", "Drag joints, or the clay, to pose the body with all that goes along", r.pose, "", r.no_rig),
        c("rig.both", "Joints of both sides", "Does what is done to a joint to its twin on the other side as well, or to one side only", r.switch_both),
        c("rig.rest", "Rest pose", "Takes all turns of all joints back", r.rest, "", r.no_rig),
        c("rig.mirror", "Mirror the pose", "Has the right side do what the left does, and the other way round", r.mirror_pose, "", r.no_rig),
        c("rig.keep-pose", "Keep the pose…", "Keeps how the body is posed under a name; it can be taken again, and mixed with others", r.ask_to_keep, "", r.no_rig),
        c("rig.to-mask", "Weights as mask", "Masks what goes along with the chosen joint, the more the more it does: paint it with the mask tools", r.to_mask, "", r.no_joint),
        c("rig.from-mask", "Mask as weights", "Has what is masked go along with the chosen joint; the other joints share the rest", r.from_mask, "", r.no_mask),
        c("rig.smooth", "Smooth weights", "Evens out what goes along with which joint, where nothing is masked", r.smooth_weights, "", r.no_rig),
        c("rig.mirror-weights", "Mirror weights", "Takes the weights of the left side over to the right", r.mirror_weights, "", r.no_rig),
        c("rig.weights", "Find weights anew", "Finds what goes along with which joint from the form; weights that were painted go", r.find_weights, "", r.no_rig),
        c("rig.along", "Take along", "Has the other chosen parts go along with the body in hand", r.take_along, "", r.no_others),
        c("rig.remove", "Remove the rig", "Takes joints and weights away from the part in hand and all that goes along: the clay rests again", r.remove, "", r.no_rig),
    )  # fmt: skip
    s, f, t = w.shaping, w.shape_files, w.shape_tools
    w.registry.add(
        c("shape.add", "New shape…", "Makes a shape with a dial of what strokes on the chosen parts do from now on", s.ask_to_add, "", s.no_part),
        c("shape.record", "Into shape", "Has strokes on all its parts go to the chosen shape; again: to the clay", s.record, "", s.no_shape),
        c("shape.neutral", "Neutral face", "Brings all dials of the part in hand to rest", s.neutral, "", s.none),
        c("shape.show", "Show the shape", "Dials the chosen shape to 100 %, or what it follows to where it was made", s.show_it, "", s.no_shape),
        c("shape.correct", "Correct dials together", "Makes a correction of the chosen shapes as they are dialled now: it is there where all of them are, and strokes go to it", t.correct, "", s.none),
        c("shape.correct-joint", "Correct the joint", "Makes a correction of the joint chosen in the rig, as it is turned now: it comes and goes with that turn, and strokes go to it", t.correct_joint, "", t.no_joint),
        c("shape.between", "In-between", "Makes a shape that is there only on the way of the chosen one, where that is dialled now; strokes go to it", t.between, "", s.no_shape),
        c("shape.by-hand", "Dial by hand", "Has the chosen correction follow nothing any more: it gets a dial of its own", t.by_hand, "", t.no_follower),
        c("shape.soft", "Come and go softly", "Has the chosen correction begin and end gently on its way, or evenly", t.soften, "", t.no_follower),
        c("shape.split", "Split into left and right", "Shows the border between left and right on the clay, and makes the chosen shape's halves of it, each with its dial", t.split, "", s.no_shape),
        c("shape.mirror", "Mirror the shape", "Makes a new shape that is the chosen one's mirror image, also on the other one of two twin parts", t.mirror, "", s.no_shape),
        c("shape.even", "Left side to right", "Has the chosen shape do on the right what it does on the left", t.even, "", s.no_shape),
        c("shape.off-mask", "Take shape off the mask", "Takes the chosen shape away where the part in hand is masked", t.off_mask, "", t.no_mask),
        c("shape.along", "Take parts along", "Has the other chosen parts go along with what the chosen shape does to the part in hand: stiff ones piece by piece", t.take_along, "", t.no_others),
        c("shape.of-pose", "Pose as a shape…", "Makes a shape, with a dial, of what the limb in hand does", t.of_pose, "", t.no_pose),
        c("shape.copy", "Copy the shape", "Makes the chosen shape once more, at rest", t.copy, "", s.no_shape),
        c("shape.merge", "Merge shapes", "Makes one shape of what the chosen ones do as they are dialled now", t.merge, "", t.no_several),
        c("shape.remove", "Remove shapes", "Takes the chosen shapes away, with what follows them", t.remove, "", s.no_shape),
        c("shape.export", "Export shapes…", "Writes the face at rest and with each shape wholly there, a file for each, into a folder", f.ask_to_export, "", s.none),
        c("shape.import", "Import shapes…", "Makes a shape of each of some files with the vertices of the face in their order, called as the file is", f.ask_to_import, "", s.no_part),
        c("shape.take", "Take a corrected mesh…", "Has the recorded shape keep what a mesh from elsewhere differs by from the clay as it is posed and dialled: the pose is undone before", f.ask_to_take, "", f.no_recorded),
        c("shape.sheet", "Sheet of shapes…", "Writes pictures of shapes on one page, as PNG or PDF", t.sheet, "", s.none),
    )  # fmt: skip
    k = w.shape_checking
    w.registry.add(
        c("shape.check", "Check shapes", "Tries each shape of the part in hand, then, beside other work, all pairs: vertices left behind, stretched skin, uneven sides, stray movement, clay through eyes and teeth", k.check, "", s.none),
        c("shape.heat", "Heat map of skin", "Colours the face by how its skin is stretched and squashed, while it is dialled and posed as well; the same again ends it", k.heat, "", s.no_part),
        c("shape.try-way", "Try the shape's way", "Tries the chosen shape moment by moment, from rest to beyond where it was made, and shows where and when skin gives most", k.try_way, "", s.no_shape),
        c("rig.try-motion", "Try the motion", "Tries the body in hand moment by moment through the motion chosen in the card Rig, and shows where and when skin gives most", k.try_motion, "", m.no_motion),
        c("shape.mend-smooth", "Smooth there", "Has the shape move the vertices of the chosen find as smoothly as what lies around them", k.smooth, "", k.no_mending),
        c("shape.mend-away", "Take away there", "Has the shape leave the vertices of the chosen find where they are", k.take_away, "", k.no_mending),
        c("shape.mend-even", "Even out there", "Has the shape move the vertices of the chosen find as it does their mirror images", k.even, "", k.no_mending),
        c("shape.mend-lift", "Lift out there", "Has the shape bring the vertices of the chosen find out of the clay that they go through", k.lift, "", k.no_mending),
        c("shape.mend-all", "Mend all shapes", "Smooths what is left behind and lifts out what goes through eyes and teeth, of all shapes of the part in hand, and checks again", k.mend_all, "", s.none),
        c("shape.mend-pairs", "Mend pairs of shapes", "Makes corrections of all pairs of shapes of the part in hand that are only wrong together, and checks again", k.mend_pairs, "", s.none),
        c("shape.mean", "Meant so", "Has the check tell no more of such finds of this shape: a mouth that opens stretches what closes it", k.mean, "", k.no_mending),
        c("shape.tell-all", "Tell of all finds", "Has the check tell again of what was said to be meant so", k.tell_all, "", k.none_meant),
        c("shape.find-correct", "Correct the find", "Dials the shapes of the chosen find and makes a correction of them, recorded on", k.correct, "", k.no_find),
    )  # fmt: skip
    # These work on what is shown: to end that first, as others do, would be to end the motion.
    w.registry.add(
        *needing(
            Needs.KERNELS,
            [
                c("rig.play", "Play the motion", "Shows the body in the chosen motion, round after round; again stops it there", m.play, "", m.no_motion),
                c("shape.play", "Play the shape", "Shows the chosen shape's dial going up and down; again ends that", s.play, "", s.no_shape),
                c("rig.stop", "End the motion", "Brings the body back to how it was before the motion", m.stop, "", m.no_picture),
                c("rig.forget-motion", "Forget the motion", "Forgets the chosen motion, one that was read from a file; the body stays as it is", m.forget, "", m.no_kept),
                c("rig.keep-frame", "Keep this moment", "Leaves the body as the motion shows it now", m.keep, "", m.no_picture),
            ],
        )
    )  # fmt: skip
