"""Sites: drawings read as courses and walls, generated courses and ground, and what is refused."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from PIL import Image, ImageDraw

from plucky_heron.dynamics.scene import build_scene, height_grid, made_course, rough_ground
from plucky_heron.errors import FileError
from plucky_heron.machine.drawings import read_site
from plucky_heron.machine.site import Course, Site, Terrain

SVG = """<svg xmlns="http://www.w3.org/2000/svg" xmlns:inkscape="http://www.inkscape.org/namespaces/inkscape" viewBox="0 0 1000 500">
  <g inkscape:label="courses"><path d="M 100,250 L 500,250 C 700,250 700,50 900,50"/></g>
  <g inkscape:label="walls" transform="translate(0,50)"><polyline points="100,100 900,100"/><rect x="10" y="20" width="50" height="40"/></g>
  <g inkscape:label="gates"><line x1="500" y1="200" x2="500" y2="300"/></g>
  <g inkscape:label="scribbles"><path d="M 0,0 L 5,5"/></g>
</svg>"""


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    (tmp_path / "project.toml").write_text('format = 2\nname = "p"\n')
    (tmp_path / "sites").mkdir()
    return tmp_path / "sites"


def site_with(folder: Path, text: str) -> Site:
    path = folder / "s.toml"
    path.write_text("format = 2\n" + text)
    return read_site(path)


def test_an_svg_gives_courses_walls_and_gates_by_its_layers(folder: Path) -> None:
    (folder / "plan.svg").write_text(SVG)
    site = site_with(folder, '[drawings.plan]\nfile = "plan.svg"\nscale = 0.01\nwidth = "2 m"\n')
    course = site.courses["plan"]
    points = np.array(course.points)
    assert points[0] == pytest.approx([1.0, 2.5]) and points[-1] == pytest.approx([9.0, 4.5])
    assert len(points) > 6 and course.gates[0] == pytest.approx((5.0, 2.5))
    walls = list(site.walls.values())
    assert len(walls) == 2
    assert np.array(walls[0].points) == pytest.approx(np.array([[1.0, 3.5], [9.0, 3.5]]))
    assert walls[1].closed and len(walls[1].points) == 4
    assert build_scene(site).tracks[0].along[-1] > 8.0


def test_a_png_gives_what_its_legend_says(folder: Path) -> None:
    image = Image.new("RGB", (200, 100), "white")
    draw = ImageDraw.Draw(image)
    draw.rectangle((20, 30, 60, 50), fill="#a8452b")
    draw.line((20, 80, 180, 80), fill="#1d6a72", width=5)
    image.save(folder / "map.png")
    site = site_with(
        folder, '[drawings.map]\nfile = "map.png"\nscale = 0.1\nlegend = { "#a8452b" = "wall", "#1d6a72" = "course" }\n'
    )
    wall = np.array(next(iter(site.walls.values())).points)
    assert wall.min(axis=0) == pytest.approx([2.0, 4.9], abs=0.11) and wall.max(axis=0) == pytest.approx(
        [6.1, 7.0], abs=0.11
    )
    line = np.array(site.courses["map"].points)
    assert np.abs(line[2:-2, 1] - 1.95).max() < 0.15
    assert abs(np.ptp(line[:, 0]) - 16.0) < 0.8


@pytest.mark.parametrize(
    ("text", "word"),
    [
        ('[drawings.d]\nfile = "../../x.svg"\n', "leads out"),
        ('[drawings.d]\nfile = "/etc/passwd.svg"\n', "relative"),
        ('[drawings.d]\nfile = "none.svg"\n', "no such file"),
        ('[drawings.d]\nfile = "bomb.svg"\n', "entities"),
        ('[drawings.d]\nfile = "text.png"\nlegend = { "#a8452b" = "wall" }\n', "PNG"),
        ("[courses.c]\nwidth = 3\n", "points"),
        ('[terrain]\nkind = "profile"\npoints = [[1, 0], [0, 1]]\n', "rise"),
    ],
)
def test_bad_sites_give_one_clear_line(folder: Path, text: str, word: str) -> None:
    (folder / "bomb.svg").write_text('<!DOCTYPE s [<!ENTITY a "b">]><svg>&a;</svg>')
    (folder / "text.png").write_text("no picture")
    with pytest.raises(FileError, match=word) as error:
        site_with(folder, text)
    assert "\n" not in str(error.value)


def test_made_courses_repeat_keep_their_bends_and_stay_clear_of_themselves() -> None:
    course = Course(seed=5, difficulty=1.0, length=80.0, tightest=4.0, width=3.0)
    points = made_course(course)
    assert np.array_equal(points, made_course(course))
    assert not np.array_equal(points, made_course(course.model_copy(update={"seed": 6})))
    steps = np.diff(points, axis=0)
    turn = np.diff(np.unwrap(np.arctan2(steps[:, 1], steps[:, 0])))
    assert np.abs(turn / 0.5).max() <= 1 / 4.0 + 1e-6
    straight = made_course(course.model_copy(update={"difficulty": 0.0}))
    assert np.abs(straight[:, 1]).max() < 1e-9


def test_rough_ground_grows_with_its_level_and_is_even_at_the_start() -> None:
    terrain = Terrain(kind="rough", height=0.1, size=(10.0, 10.0), levels=4)
    sizes = [rough_ground(terrain, share)[4].std() for share in (0.0, 0.5, 1.0)]
    assert sizes[0] == 0.0 and sizes[2] == pytest.approx(2 * sizes[1])
    x0, y0, dx, dy, table = height_grid(terrain, 1.0)
    assert table[round(-y0 / dy), round(-x0 / dx)] == 0.0
    assert len(build_scene(Site(terrain=terrain)).names) == 4
