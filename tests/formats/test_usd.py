"""USD: out and in again, by files of others, judged by the library's own validators, broken in every way."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from kneten.core.arrays import Cancelled, Progress
from kneten.core.transform import Transform
from kneten.document.project import Project
from kneten.document.rigging import rig_of
from kneten.document.scene import Part, Scene
from kneten.document.shapes import add_shape, dial
from kneten.formats import usd
from kneten.formats.clips import ReadMotion
from kneten.formats.exchange import (
    bring,
    pieces_of,
    read_file,
    read_rigged,
    with_maps,
    with_skins,
    write_file,
)
from kneten.formats.pieces import FormatError
from kneten.formats.space import Space
from kneten.formats.targets import shape_moves
from tests.conftest import make_ball
from tests.document.test_rigging import TURNED, rig_all, turned, with_body
from tests.formats.test_exchange import shuffled_part

pxr = pytest.importorskip("pxr")
from pxr import Gf, Sdf, Usd, UsdGeom, UsdShade, UsdValidation, Vt  # noqa: E402

ALL = (".usda", ".usdc", ".usdz", ".usd")


def found_faults(path: Path) -> list[str]:
    """What all validators of the library say of a file."""
    known = UsdValidation.ValidationRegistry()
    names = [one.name for one in known.GetAllValidatorMetadata()]
    context = UsdValidation.ValidationContext([known.GetOrLoadValidatorByName(name) for name in names])
    return [one.GetErrorAsString() for one in context.Validate(Usd.Stage.Open(str(path)))]


def written(project: Project, path: Path, space: Space) -> list[str]:
    parts = [part for part in project.scene.parts if part.visible]
    pieces = with_skins(path, pieces_of(parts, space), parts, project.scene, space)
    return write_file(path, with_maps(path, pieces, parts, project.scene), space=space)


@pytest.mark.parametrize("ending", ALL)
def test_one_part_there_and_back(tmp_path: Path, ending: str) -> None:
    part = shuffled_part()
    part.mesh.material = np.random.default_rng(3).integers(0, 256, (part.mesh.n_vertices, 4)).astype(np.uint8)
    part.mesh.uv = np.random.default_rng(4).random((part.mesh.topology.n_faces, 8)).astype(np.float32)
    path = tmp_path / f"a{ending}"
    write_file(path, pieces_of([part], Space("m")))
    assert found_faults(path) == []
    ((name, mesh, _),), notices = read_file(path)
    assert (name, notices) == ("Näse", [])
    before, faces = part.mesh.source_arrays()
    after, faces_after = mesh.source_arrays()
    assert after == pytest.approx(before, abs=1e-4)
    assert np.array_equal(faces, faces_after)
    for value in ("colour", "material"):
        told, wanted = getattr(mesh, value), getattr(part.mesh, value)
        assert np.array_equal(mesh.in_source_order(told), part.mesh.in_source_order(wanted))
    back = np.empty_like(mesh.uv)
    back[mesh.topology.source_face] = mesh.uv
    own = np.empty_like(part.mesh.uv)
    own[part.mesh.topology.source_face] = part.mesh.uv
    assert back == pytest.approx(own)


@pytest.mark.parametrize("space", [Space("m"), Space("cm", "z"), Space("in"), Space("mm", "z")])
@pytest.mark.parametrize("place", [Transform(), TURNED, Transform((9.0, 2.0, 1.0), mirror=True)])
def test_the_file_says_how_it_measures_space(tmp_path: Path, space: Space, place: Transform) -> None:
    part = Part("Ball", make_ball(20.0, 5), transform=place)
    path = tmp_path / "a.usda"
    write_file(path, pieces_of([part], space), space=space)
    stage = Usd.Stage.Open(str(path))
    assert UsdGeom.GetStageUpAxis(stage).lower() == space.up
    ((_, mesh, _),), _ = read_file(path)
    wanted = place.to_scene(part.mesh.source_arrays()[0].astype(float))
    assert mesh.source_arrays()[0] == pytest.approx(wanted, abs=1e-3)
    # Outwards is outwards.
    out = mesh.positions - mesh.positions.mean(axis=0)
    assert (np.einsum("nk,nk->n", out, mesh.normals) > 0).all()


@pytest.mark.parametrize(
    ("place", "space"), [(TURNED, Space("cm", "z")), (Transform((5, 5, 5), mirror=True), Space("m"))]
)
@pytest.mark.parametrize("ending", [".usda", ".usdz"])
def test_a_skeleton_and_its_pose_there_and_back(
    tmp_path: Path, place: Transform, space: Space, ending: str
) -> None:
    project = with_body(1, place)
    rig_all(project)
    turned(project, "Elbow left", (0.0, 0.0, 50.0))
    turned(project, "Chest", (12.0, 8.0, 0.0))
    path = tmp_path / f"body{ending}"
    assert any("6 joints, 3 skins" in text for text in written(project, path, space))
    assert found_faults(path) == []
    taken, _ = read_rigged(path)
    other = Project()
    bring(other, taken, "Import")
    for part, back in zip(project.scene.parts, other.scene.parts, strict=True):
        one, two = rig_of(part), rig_of(back)
        assert (one is None) == (two is None)
        if one is not None and two is not None:
            assert [joint.name for joint in one.joints] == [joint.name for joint in two.joints]
            assert [joint.parent for joint in one.joints] == [joint.parent for joint in two.joints]
        wanted = part.transform.to_scene(part.mesh.source_arrays()[0].astype(float))
        assert back.mesh.source_arrays()[0] == pytest.approx(wanted, abs=2e-3)


def test_shapes_there_and_back_with_their_dials(tmp_path: Path) -> None:
    project = Project(Scene((Part("Head", make_ball(60.0, 12), id="head"),)))
    part = project.scene.part("head")
    moves = np.zeros_like(part.mesh.positions)
    moves[part.mesh.positions[:, 1] > 30, 1] = 4.0
    from kneten.core.relief import packed
    from kneten.core.stack import Layer

    key = add_shape(project, ["head"], "Brow up", on={"head": Layer("", 0.0, reliefs=(packed(moves),))})
    dial(project, {key: 0.5}, "Dial")
    path = tmp_path / "head.usdc"
    written(project, path, Space("cm"))
    assert found_faults(path) == []
    taken, _ = read_rigged(path)
    ((name, value, back),) = taken[0].shapes
    assert (name, value) == ("Brow up", pytest.approx(0.5))
    _, told = shape_moves(project.scene.part("head"))
    order = taken[0].mesh.topology.source_vertex
    wanted = project.scene.part("head").mesh.in_source_order(told[key])
    assert back == pytest.approx(wanted[order], abs=1e-4)


def test_a_clip_there_and_back(tmp_path: Path) -> None:
    from kneten.core.pose.motions import MOTIONS
    from kneten.document.motions import told_to_others

    project = with_body(0)
    rig_all(project)
    assert MOTIONS
    assert told_to_others(project.scene, project.scene.part("body"))
    path = tmp_path / "body.usda"
    written(project, path, Space("m"))
    stage = Usd.Stage.Open(str(path))
    assert stage.GetEndTimeCode() > 0
    taken, _ = read_rigged(path)
    body = next(one for one in taken if one.motions)
    motion: ReadMotion = body.motions[0]
    assert len(motion.joints) > 0
    # Bent as the library itself bends it, at a moment on its way.
    from pxr import UsdSkel

    cache = UsdSkel.Cache()
    root = UsdSkel.Root(stage.GetPrimAtPath("/Clay"))
    cache.Populate(root, Usd.PrimDefaultPredicate)
    skeleton = next(UsdSkel.Skeleton(prim) for prim in stage.Traverse() if prim.IsA(UsdSkel.Skeleton))
    query = cache.GetSkelQuery(skeleton)
    when = Usd.TimeCode(float(stage.GetEndTimeCode()) * 0.37)
    moved = query.ComputeSkinningTransforms(when)
    assert np.abs(np.array(moved) - np.eye(4)).max() > 1e-3


def test_pictures_lie_beside_the_file_and_within_a_package(tmp_path: Path) -> None:
    part = shuffled_part(colour=True)
    piece = pieces_of([part], Space("m"))[0]
    from dataclasses import replace

    from kneten.formats.maps import as_png

    uv = np.tile(np.array([0, 0, 1, 0, 1, 1, 0, 1], np.float32), (len(piece.faces), 1))
    grey = as_png(np.full((8, 8, 3), 0.5, np.float32))
    piece = replace(piece, uv=uv, maps=dict.fromkeys(("colour", "normal", "occlusion", "mixed"), grey))
    notices = write_file(tmp_path / "a.usda", [piece])
    assert any("4 pictures lie in a_textures" in text for text in notices)
    assert len(list((tmp_path / "a_textures").glob("*.png"))) == 4
    assert found_faults(tmp_path / "a.usda") == []
    write_file(tmp_path / "b.usdz", [piece])
    assert found_faults(tmp_path / "b.usdz") == []
    stage = Usd.Stage.Open(str(tmp_path / "b.usdz"))
    shaders = [UsdShade.Shader(prim) for prim in stage.Traverse() if prim.IsA(UsdShade.Shader)]
    assert sum(one.GetIdAttr().Get() == "UsdUVTexture" for one in shaders) == 4


def of_others(path: Path, **how: object) -> tuple[Usd.Stage, UsdGeom.Mesh]:
    """A cube of another program's, turned, scaled, with z up and inches, faces given the other way round."""
    stage = Usd.Stage.CreateNew(str(path))
    UsdGeom.SetStageUpAxis(stage, UsdGeom.Tokens.z)
    UsdGeom.SetStageMetersPerUnit(stage, 0.0254)
    top = UsdGeom.Xform.Define(stage, "/Set")
    top.AddTranslateOp().Set(Gf.Vec3d(1, 2, 3))
    mesh = UsdGeom.Mesh.Define(stage, "/Set/Box")
    corners = [(x, y, z) for z in (0, 1) for y in (0, 1) for x in (0, 1)]
    faces = [(0, 2, 3, 1), (4, 5, 7, 6), (0, 1, 5, 4), (2, 6, 7, 3), (0, 4, 6, 2), (1, 3, 7, 5)]
    mesh.CreatePointsAttr([Gf.Vec3f(*one) for one in corners])
    mesh.CreateFaceVertexCountsAttr([4] * 6)
    left = bool(how.get("left"))
    mesh.CreateFaceVertexIndicesAttr([k for face in faces for k in (face[::-1] if left else face)])
    if left:
        mesh.CreateOrientationAttr(UsdGeom.Tokens.leftHanded)
    stage.SetDefaultPrim(top.GetPrim())
    stage.Save()
    return stage, mesh


@pytest.mark.parametrize("left", [False, True])
def test_files_of_others_come_in_where_they_stand(tmp_path: Path, left: bool) -> None:
    path = tmp_path / "box.usda"
    of_others(path, left=left)
    ((name, mesh, _),), _ = read_file(path)
    assert name == "Box"
    low, high = mesh.bounds()
    # z is up: (1..2, 2..3, 3..4) inches are x 1..2, y 3..4, z -3..-2.
    assert low == pytest.approx([25.4, 76.2, -76.2], abs=1e-3)
    assert high == pytest.approx([50.8, 101.6, -50.8], abs=1e-3)
    out = mesh.positions - mesh.positions.mean(axis=0)
    assert (np.einsum("nk,nk->n", out, mesh.normals) > 0).all()


def test_colours_of_faces_and_corners_come_as_those_of_vertices(tmp_path: Path) -> None:
    path = tmp_path / "box.usda"
    stage, mesh = of_others(path)
    shown = mesh.CreateDisplayColorPrimvar(UsdGeom.Tokens.uniform)
    shown.Set([Gf.Vec3f(1, 0, 0)] * 6)
    st = UsdGeom.PrimvarsAPI(mesh).CreatePrimvar(
        "map1", Sdf.ValueTypeNames.TexCoord2fArray, UsdGeom.Tokens.vertex
    )
    st.Set(Vt.Vec2fArray([Gf.Vec2f(k / 8, 0.5) for k in range(8)]))
    stage.Save()
    ((_, back, _),), _ = read_file(path)
    assert (back.colour[:, :3] == [255, 0, 0]).all()
    assert back.uv is not None
    assert back.uv.reshape(-1, 4, 2)[:, :, 1] == pytest.approx(0.5)


def test_what_is_hidden_or_a_guide_stays_away_and_instances_come(tmp_path: Path) -> None:
    path = tmp_path / "set.usda"
    stage, _ = of_others(path)
    stage.CreateClassPrim("/Proto")
    inner = UsdGeom.Mesh.Define(stage, "/Proto/Bead")
    inner.CreatePointsAttr([Gf.Vec3f(0, 0, 0), Gf.Vec3f(1, 0, 0), Gf.Vec3f(0, 1, 0)])
    inner.CreateFaceVertexCountsAttr([3])
    inner.CreateFaceVertexIndicesAttr([0, 1, 2])
    for k in range(2):
        one = stage.DefinePrim(f"/Set/Bead{k}")
        one.GetReferences().AddInternalReference("/Proto")
        one.SetInstanceable(True)
    hidden = UsdGeom.Mesh.Define(stage, "/Set/Hidden")
    hidden.CreateVisibilityAttr(UsdGeom.Tokens.invisible)
    guide = UsdGeom.Mesh.Define(stage, "/Set/Guide")
    guide.CreatePurposeAttr(UsdGeom.Tokens.guide)
    stage.Save()
    pieces, _ = read_file(path)
    assert sorted(name for name, _, _ in pieces) == ["Bead", "Bead", "Box"]


@pytest.mark.parametrize(
    ("spoil", "words"),
    [
        (lambda m: m.GetFaceVertexCountsAttr().Set([4, 4]), "as many corners"),
        (lambda m: m.GetFaceVertexIndicesAttr().Set([99] * 24), "names vertex 100"),
        (lambda m: m.GetPointsAttr().Set([Gf.Vec3f(float("nan"), 0, 0)] * 8), "not a finite number"),
        (lambda m: m.GetPointsAttr().Set([]), "no meshes"),
        (lambda m: UsdGeom.SetStageMetersPerUnit(m.GetPrim().GetStage(), -1.0), "metres long"),
    ],
)
def test_what_is_wrong_is_said(tmp_path: Path, spoil, words: str) -> None:  # type: ignore[no-untyped-def]
    path = tmp_path / "box.usda"
    stage, mesh = of_others(path)
    spoil(mesh)
    stage.Save()
    with pytest.raises(FormatError, match=words):
        read_file(path)


@pytest.mark.parametrize("ending", [".usda", ".usdc", ".usdz"])
def test_damaged_files_are_refused(tmp_path: Path, ending: str) -> None:
    path = tmp_path / f"a{ending}"
    write_file(path, pieces_of([shuffled_part()], Space("m")))
    data = path.read_bytes()
    for cut in (20, len(data) // 3):
        path.write_bytes(data[:cut])
        with pytest.raises(FormatError, match=path.name):
            read_file(path)


class Stops(Progress):
    def report(self, fraction: float, text: str = "") -> None:
        raise Cancelled


def test_writing_is_cancelled_and_leaves_the_old_file(tmp_path: Path) -> None:
    path = tmp_path / "a.usdc"
    path.write_bytes(b"old")

    with pytest.raises(Cancelled):
        write_file(path, pieces_of([shuffled_part()], Space("m")), progress=Stops())
    assert path.read_bytes() == b"old"
    assert [one.name for one in tmp_path.iterdir()] == ["a.usdc"]


def test_without_the_package_all_else_works(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    import builtins

    own = builtins.__import__

    def without(name: str, *rest: object, **more: object) -> object:
        if name.startswith("pxr"):
            raise ImportError(name)
        return own(name, *rest, **more)  # type: ignore[arg-type]

    monkeypatch.setattr(builtins, "__import__", without)
    with pytest.raises(FormatError, match="usd-core"):
        usd.library()
    write_file(tmp_path / "a.obj", pieces_of([shuffled_part()], Space()))
