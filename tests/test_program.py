"""The program as a whole: start-up costs, the bench's output, the demo's hands, the start script."""

from __future__ import annotations

import ast
import itertools
import json
import os
import re
import shutil
import subprocess
import sys
import sysconfig
import venv
import zipfile
from collections.abc import Iterator
from pathlib import Path

import networkx as nx
import numpy as np
import pytest
from benchmarks.__main__ import main as bench
from benchmarks.figures import FIGURES
from benchmarks.measure import Figure
from scipy.spatial import cKDTree

from kneten.core.arrays import PART, in_parts, kernel_folder
from kneten.core.brushes.toolbox import TOOLS
from kneten.core.paint.layers import open_paint, seen_values
from kneten.core.scatter.numbers import Row
from kneten.core.symmetry import exactly_symmetric
from kneten.core.transform import Transform
from kneten.demo.files import demo_path, demo_project
from kneten.demo.sculptor import Sculptor, smooth_line
from kneten.document.blocking import placed
from kneten.document.layering import change_layer
from kneten.document.project import Project

ROOT = Path(__file__).parents[1]

IMPORT_ALL = """
import importlib, pkgutil, sys, numba
import kneten.core
for module in pkgutil.walk_packages(kneten.core.__path__, "kneten.core."):
    if not module.name.endswith("__main__"):
        importlib.import_module(module.name)
compiled = [
    f"{name}.{key}"
    for name, module in list(sys.modules.items()) if name.startswith("kneten")
    for key, value in vars(module).items()
    if isinstance(value, numba.core.registry.CPUDispatcher) and value.signatures
]
foreign = [name for name in sys.modules if name.split(".")[0] in ("PySide6", "moderngl", "PIL")]
print(len(compiled), len(foreign))
"""


def test_importing_the_core_compiles_nothing_and_knows_no_windows() -> None:
    done = subprocess.run([sys.executable, "-c", IMPORT_ALL], capture_output=True, text=True, check=True)
    assert done.stdout.split() == ["0", "0"]


def test_warming_compiles_what_a_stroke_needs() -> None:
    code = (
        "from kneten.core.warm import warm_here, warmed; seen = [];"
        "warm_here(lambda fraction, name: seen.append((fraction, name)));"
        "from kneten.core import reach; print(len(seen), len(reach.weigh.signatures), warmed())"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    steps, variants, ready = done.stdout.split()
    assert int(steps) == sum(max(len(tool.variants), 1) for tool in TOOLS.values()) + 16
    assert (variants, ready) == ("1", "True")


def test_compiled_code_is_kept_for_this_state_of_the_core(
    monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    first = kernel_folder()
    assert first == kernel_folder()
    monkeypatch.setenv("KNETEN_CACHE", str(tmp_path))
    assert kernel_folder().parent.parent == tmp_path
    assert kernel_folder().name == first.name


def test_bench_prints_figures_for_programs(capsys: pytest.CaptureFixture[str]) -> None:
    assert bench(["memory", "--json"]) == 0
    (row,) = json.loads(capsys.readouterr().out)
    assert set(row) == {"name", "value", "bar", "unit", "holds"}
    assert row["holds"]
    assert 80 < row["value"] <= row["bar"] == 120
    strokes = {
        "memory",
        "dab-plain",
        "dab-size",
        "dab-broad",
        "frames",
        "undo",
        "save",
        "subdivide",
        "remesh",
    }
    assert strokes | {
        "grain",
        "paint",
        "scatter",
        "fur",
        "boolean",
        "cut",
        "fuse",
        "preview",
        "tools",
        "live",
        "decimate",
        "levels",
        "carry",
        "quads",
        "unwrapping",
        "baking",
        "texels",
        "detail-levels",
        "walls",
        "hollowing",
        "layer",
        "start",
        "desk",
        "press",
        "read",
        "show",
        "pose",
        "rig",
        "shapes",
    } == set(FIGURES)


def test_the_bench_says_what_it_can_measure_and_measures_nothing(capsys: pytest.CaptureFixture[str]) -> None:
    with pytest.raises(SystemExit) as asked:
        bench(["--help"])
    assert asked.value.code == 0
    told = capsys.readouterr().out
    assert "--json" in told
    assert all(name in told.replace("\n", " ") for name in ("memory", "desk"))
    with pytest.raises(SystemExit) as refused:
        bench(["memory", "tea"])
    assert refused.value.code == 2
    assert "no figure tea" in capsys.readouterr().err


def test_a_figure_knows_which_side_of_its_bar_is_right() -> None:
    assert Figure("a", 1.0, 2.0, "", True, "").holds
    assert not Figure("a", 3.0, 2.0, "", True, "").holds
    assert Figure("a", 3.0, 2.0, "", False, "").holds
    assert not Figure("a", 1.0, 2.0, "", False, "").holds


def test_the_demos_hands_work_through_the_project() -> None:
    project = Project()
    project.change_settings(symmetry=(True, False, False))
    hand = Sculptor(project)
    hand.ball("Head", (0, 0, 0), (60, 50, 55))
    hand.pair("Ear", (50, 40, 0), (10, 12, 6))
    assert [p.name for p in project.scene.parts] == ["Head", "Ear right", "Ear left"]
    right, left = (p.transform.place for p in project.scene.parts[1:])
    assert right == (-left[0], left[1], left[2])
    project.choose(project.scene.parts[0].id)
    before = hand.part.mesh.positions.copy()
    hand.stroke("raise", [(10, 0, 60), (25, 10, 60)], 12.0, 0.6, times=2)
    hand.pull((20, -20, 60), (5, 0, 5), 15.0)
    assert not np.array_equal(hand.part.mesh.positions, before)
    assert exactly_symmetric(hand.part.mesh.positions, 0)
    assert project.history.names()[0][-3:] == ["Raise on Head", "Raise on Head", "Pull on Head"]
    while project.undo():
        pass
    assert project.scene.parts == ()


def test_lines_of_the_demo_are_smooth_and_even() -> None:
    line = smooth_line([(0, 0, 0), (10, 5, 0), (20, 0, 0)], 0.5)
    gaps = np.linalg.norm(np.diff(line, axis=0), axis=1)
    assert gaps.max() < 0.75
    assert len(smooth_line([(1, 2, 3)], 0.5)) == 1


def test_parts_are_taken_where_they_stand() -> None:
    project = Project.with_ball()
    part = project.scene.parts[0]
    project.place(part.id, Transform((10.0, 0, 0), scale=0.5))
    (mesh,) = placed(project.scene.parts)
    low, high = mesh.bounds()
    assert (low[0], high[0]) == pytest.approx((-40, 60))


def test_the_blockout_demo_is_whole() -> None:
    project = demo_project(name="widow-sedge")
    scene = project.scene
    assert 20 <= len(scene.parts) <= 40
    assert {group.name for group in scene.groups} == {"Widow", "Head", "Reed coat", "Basket", "Mooring"}
    kinds = {part.recipe.kind for part in scene.parts if part.recipe is not None}
    assert kinds == {"primitive", "strand", "lathe"}
    body = scene.parts[0]
    assert body.was is not None
    assert body.was.kind == "armature"
    assert any(len(part.origins) > 1 for part in scene.parts)
    assert any(scene.linked(part) for part in scene.parts)
    assert len(scene.references) == 5
    assert all(r.picture in project.settings.originals for r in scene.references)
    for part in scene.parts:
        assert not part.mesh.topology.has_border, part.name


def test_the_forms_demo_is_whole() -> None:
    project = demo_project()
    body, left, right, eyes = project.scene.parts
    assert body.name == "Tarn"
    assert left.mesh is right.mesh
    assert left.was is not None
    assert eyes.recipe is not None
    for part in project.scene.parts:
        assert not part.mesh.topology.has_border, part.name
    # But for the scar, both sides are alike.
    distance, _ = cKDTree(body.mesh.positions).query(body.mesh.positions[::20] * [-1, 1, 1])
    assert np.percentile(distance, 90) < 1.0
    assert len(project.scene.guides) == 2
    assert project.title == "Tarn, forms"


def test_the_skin_demo_has_all_that_it_shows_and_can_be_taken_back() -> None:
    assert demo_path("tarn-skin").stat().st_size < 25e6
    project = demo_project(name="tarn-skin")
    parts = {part.name: part for part in project.scene.parts}
    body = parts["Tarn"]
    assert body.stack is not None
    assert body.stack.level == body.stack.top == 3
    assert body.mesh.n_vertices > 1_500_000
    assert not body.mesh.topology.has_border
    assert not project.unsaved
    assert not any(project.history.names())
    layers = {layer.name: layer for layer in body.stack.layers}
    assert {"Pores, fine", "Pores, broad", "Wrinkles", "Lips", "Nose leather", "Whisker pads"} <= set(layers)
    assert all(any(layer.reliefs) for layer in layers.values())
    assert {"Whiskers", "Rope", "Frayed ends", "Lantern", "Rivets"} <= set(parts)
    assert isinstance(parts["Rivets"].recipe, Row)
    furs = project.scene.things("furs")
    assert {"Hump", "Cheeks"} <= {fur.name for fur in furs}
    assert sum(fur.numbers.count for fur in furs) > 200_000
    # A layer is turned off and on again, and the clay comes back to the bit.
    before = body.mesh.positions.copy()
    pores = layers["Pores, broad"]
    change_layer(project, body, pores.id, "Hide", shown=False)
    hidden = project.scene.part(body.id)
    moved = np.linalg.norm(hidden.mesh.positions - before, axis=1)
    assert 0.02 < float(moved.max()) < 2.0
    change_layer(project, hidden, pores.id, "Show", shown=True)
    assert np.array_equal(project.scene.part(body.id).mesh.positions, before)


def test_the_first_demo_is_whole() -> None:
    project = demo_project(name="tarns-head")
    head = project.scene.parts[0]
    assert head.name == "Tarn"
    assert not head.mesh.topology.border.any()
    assert exactly_symmetric(head.mesh.positions, 0)
    assert project.scene.milestones[0].picture.startswith(b"\x89PNG")
    assert project.path is None
    assert "Tarn" in project.title


def test_the_start_script_is_sound() -> None:
    for script in ("kneten", "tests/run.sh", ".ci/run"):
        subprocess.run(["bash", "-n", str(ROOT / script)], check=True)
    assert os.access(ROOT / "kneten", os.X_OK)
    pinned = [
        line
        for name in ("requirements.txt", "requirements-dev.txt")
        for line in (ROOT / name).read_text().splitlines()
        if line and not line.startswith(("#", "-r"))
    ]
    assert all("==" in line for line in pinned)


def test_links_and_pictures_of_the_readme_exist() -> None:
    text = (ROOT / "README.md").read_text()
    links = re.findall(r"\]\(([^)]+)\)", text)
    assert len(links) > 8
    for link in links:
        assert (ROOT / link).exists(), link


def imports() -> nx.DiGraph:
    """Which file of Kneten imports which, what is imported for types alone included."""
    graph = nx.DiGraph()
    source = ROOT / "src"
    for path in (source / "kneten").rglob("*.py"):
        here = ".".join(path.relative_to(source).with_suffix("").parts)
        for node in ast.walk(ast.parse(path.read_text())):
            if not isinstance(node, ast.ImportFrom) or not (node.module or "").startswith("kneten"):
                continue
            for alias in node.names:
                inner = f"{node.module}.{alias.name}"
                is_file = (source / inner.replace(".", "/")).with_suffix(".py").exists()
                graph.add_edge(here, inner if is_file else node.module)
    return graph


def test_no_more_than_two_files_import_each_other() -> None:
    circles = [c for c in nx.strongly_connected_components(imports()) if len(c) > 2]
    assert circles == []


def test_nobody_but_the_start_names_the_window() -> None:
    graph = imports()
    assert list(graph.predecessors("kneten.app.shell.window")) == ["kneten.app.start.main"]


def test_every_path_that_the_documents_name_is_there() -> None:
    for name in ("docs/architecture.md", "README.md"):
        text = (ROOT / name).read_text()
        for path in re.findall(
            r"`((?:core|document|formats|render|demo|app|data|tests|benchmarks|docs)/[\w./*]+)`", text
        ):
            path = path.replace("NAME", "*")
            places = [ROOT, ROOT / "src/kneten"]
            assert any(list(place.glob(path.rstrip("/"))) for place in places), f"{name} names {path}"


@pytest.mark.timeout(300)
def test_an_installed_kneten_works_with_its_data(tmp_path: Path) -> None:
    source = tmp_path / "source"
    source.mkdir()
    for name in ("pyproject.toml", "README.md", "LICENSE", "requirements.txt"):
        shutil.copy(ROOT / name, source)
    shutil.copytree(ROOT / "src", source / "src", ignore=shutil.ignore_patterns("__pycache__", "*.egg-info"))
    wheels = [
        "-m",
        "pip",
        "wheel",
        "-q",
        "--no-deps",
        "--no-build-isolation",
        "-w",
        str(tmp_path),
        str(source),
    ]
    subprocess.run([sys.executable, *wheels], check=True, capture_output=True)
    (wheel,) = tmp_path.glob("kneten-*.whl")
    venv.create(tmp_path / "own", with_pip=True)
    python = tmp_path / "own/bin/python"
    subprocess.run([python, "-m", "pip", "install", "-q", "--no-deps", str(wheel)], check=True)
    # What it depends on is here already; fetching it again is not what is tried.
    (site,) = (tmp_path / "own/lib").glob("python*/site-packages")
    (site / "others.pth").write_text(sysconfig.get_paths()["purelib"])
    names = [
        line.split("==")[0] for line in (ROOT / "requirements.txt").read_text().splitlines() if "==" in line
    ]
    with zipfile.ZipFile(wheel) as archive:
        (metadata,) = [archive.read(n).decode() for n in archive.namelist() if n.endswith("METADATA")]
    assert all(f"Requires-Dist: {name}==" in metadata for name in names)
    clean = {key: value for key, value in os.environ.items() if key != "PYTHONPATH"}
    code = "import kneten; from kneten.demo.files import demo_path; print(kneten.__file__, demo_path('tarns-head'))"
    told = subprocess.run(
        [python, "-c", code], check=True, capture_output=True, text=True, env=clean, cwd=tmp_path
    )
    assert all(str(tmp_path) in word for word in told.stdout.split())
    demo = told.stdout.split()[1]
    command = tmp_path / "own/bin/kneten"
    subprocess.run([command, "convert", demo, str(tmp_path / "a.glb")], check=True, env=clean, cwd=tmp_path)
    assert (tmp_path / "a.glb").stat().st_size > 100_000
    picture = ["still", demo, str(tmp_path / "a.png"), "--size", "64x64"]
    subprocess.run([command, *picture], check=True, env=clean, cwd=tmp_path)
    assert (tmp_path / "a.png").exists()


@pytest.mark.parametrize(
    ("words", "display", "told"),
    [
        (["nowhere.kneten"], ":0", "there is no file or command nowhere.kneten"),
        (["demos"], ":0", "there is no file or command demos"),
        ([], "", "there is no display"),
        (["demo"], ":4711", "does not answer"),
    ],
)
def test_a_start_that_cannot_be_is_one_plain_line(words: list[str], display: str, told: str) -> None:
    env = {key: value for key, value in os.environ.items() if key not in ("DISPLAY", "WAYLAND_DISPLAY")}
    env["QT_QPA_PLATFORM"] = "xcb"
    if display:
        env["DISPLAY"] = display
    done = subprocess.run(
        [sys.executable, "-m", "kneten", *words], env=env, capture_output=True, text=True, timeout=60
    )
    assert done.returncode == 2
    assert done.stderr.startswith("kneten: ")
    assert told in done.stderr
    assert done.stderr.count("\n") == 1


def test_what_a_thread_raises_is_raised() -> None:
    def part(first: int, last: int) -> None:
        if first > 0:
            raise ValueError("in a thread")

    with pytest.raises(ValueError, match="in a thread"):
        in_parts(8 * PART, part)


def test_the_start_script_writes_to_no_fixed_name_that_all_may_write_to() -> None:
    assert "/tmp" not in (ROOT / "kneten").read_text()
    for path in (ROOT / "src").rglob("*.py"):
        assert "gettempdir" not in path.read_text(), path


def test_a_balls_memory_goes_with_its_surface() -> None:
    code = (
        "import resource; from kneten.core.primitives import ball; b = lambda: "
        "resource.getrusage(resource.RUSAGE_SELF).ru_maxrss; before = b(); ball(1.0, 600); print((b() - before) // 1024)"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    # Two million vertices: by the room inside, 900 MB more.
    assert int(done.stdout) < 500


ARRAYS = re.compile(r"\b(F32|F64|I32|U8|U16|U32|AnyArray)\b")
SHAPES = re.compile(r"\(\w*[\w +*/]*,|\(\d")


def public_functions(path: Path) -> Iterator[ast.FunctionDef]:
    """Functions, and methods of classes, that others may call; kernels aside."""
    bodies = [ast.parse(path.read_text()).body]
    bodies += [one.body for one in bodies[0] if isinstance(one, ast.ClassDef) and one.name[0] != "_"]
    for one in itertools.chain.from_iterable(bodies):
        if isinstance(one, ast.FunctionDef) and one.name[0] != "_":
            marks = {ast.unparse(mark) for mark in one.decorator_list}
            # What draws a press is told of in `Entry`, for all of them.
            drawn = any(mark.startswith("press(") for mark in marks)
            yield from () if drawn or marks & {"kernel", "inlined"} else (one,)


@pytest.mark.parametrize("room", ["core", "document", "formats", "render"])
def test_whoever_takes_or_gives_arrays_tells_their_shapes(room: str) -> None:
    silent = []
    for path in sorted((ROOT / "src/kneten" / room).rglob("*.py")):
        for function in public_functions(path):
            kinds = [one.annotation for one in (*function.args.args, *function.args.kwonlyargs)]
            told = " ".join(ast.unparse(kind) for kind in (*kinds, function.returns) if kind is not None)
            if ARRAYS.search(told) and not SHAPES.search(ast.get_docstring(function) or ""):
                silent.append(f"{path.name}: {function.name}")
    assert silent == []


@pytest.mark.parametrize("room", ["core", "document", "formats", "render"])
def test_whoever_raises_tells_so(room: str) -> None:
    silent = []
    for path in sorted((ROOT / "src/kneten" / room).rglob("*.py")):
        for function in public_functions(path):
            raises = [
                ast.unparse(one.exc)
                for one in ast.walk(function)
                if isinstance(one, ast.Raise) and one.exc is not None
            ]
            own = [one for one in raises if re.match(r"\w+Error\(", one) and "NotImplemented" not in one]
            if own and "aise" not in (ast.get_docstring(function) or ""):
                silent.append(f"{path.relative_to(ROOT)}: {function.name}: {own[0]}")
    assert silent == []


def test_the_painted_demo_is_painted_on_layers_and_shows_what_they_give() -> None:
    assert demo_path("tarn-painted").stat().st_size < 25e6
    project = demo_project(name="tarn-painted")
    parts = {part.name: part for part in project.scene.parts}
    body = parts["Tarn"]
    stack = body.stack
    assert stack is not None
    assert stack.level == stack.top == 3
    assert body.mesh.n_vertices > 1_500_000
    painted = {layer.name: layer for layer in stack.layers if layer.paint}
    assert {"Zones", "Mottle", "Hollows", "Spots", "Veins", "Nose and lips", "Wet", "Scar, colour"} <= set(
        painted
    )
    assert painted["Hollows"].wash is not None
    assert painted["Wet"].paint.has_material
    assert len({layer.blend for layer in painted.values()}) > 1
    # What is seen is base and layers, to the bit.
    given = seen_values(stack, open_paint(stack, body.mesh), body.mesh.value("colour"))
    assert np.array_equal(given["colour"], body.mesh.colour)
    assert np.array_equal(given["material"], body.mesh.material)
    # Not the same on both sides.
    twin = cKDTree(body.mesh.positions).query(body.mesh.positions[::50] * [-1, 1, 1])[1]
    other = np.abs(body.mesh.colour[::50, :3].astype(int) - body.mesh.colour[twin, :3]).sum(axis=1)
    assert (other > 12).mean() > 0.1
    metal = parts["Lantern"].mesh.value("material")[:, 1]
    assert 0.2 < (metal > 200).mean() < 0.95
    assert (parts["Eyes"].mesh.value("material")[:, 3] > 250).all()
    assert len(project.scene.references) == 1
    assert not project.unsaved


def test_pim_comes_in_four_kinds_of_colours() -> None:
    assert demo_path("pim").stat().st_size < 15e6
    project = demo_project(name="pim")
    kinds = project.scene.milestones
    assert len(kinds) == 4
    assert len({one.picture for one in kinds}) == 4
    now = next(part for part in project.scene.parts if part.name == "Pim")
    looks = {}
    for milestone in kinds:
        project.go_back(milestone.id)
        part = project.scene.part(now.id)
        assert np.array_equal(part.mesh.positions, now.mesh.positions)
        looks[milestone.name] = part.mesh.value("colour")[:, :3].astype(float).mean(axis=0)
    means = np.array(list(looks.values()))
    apart = np.linalg.norm(means[:, None] - means[None], axis=2)[np.triu_indices(4, 1)]
    assert apart.min() > 12
    material = now.mesh.value("material")
    assert (material[:, 3] > 150).mean() > 0.9
    gills = next(part for part in project.scene.parts if part.name == "Gills")
    assert gills.mesh.value("material")[:, 2].mean() > 200
