"""Courses, walls, gates and heights read from drawings: SVG by layer names, PNG by the colours of a legend.

Drawings stand beside the site file and never outside its project; they are read, not run.
"""

from __future__ import annotations

import hashlib
import io
import math
import re
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from pydantic import ValidationError

from plucky_heron.errors import FileError, shortened
from plucky_heron.faults import explain
from plucky_heron.files import inside, is_file, load, read_bytes
from plucky_heron.machine.meshes import project_of
from plucky_heron.machine.site import MOST_HEIGHTS, Course, Drawing, Heights, Site, Wall
from plucky_heron.machine.xml import read_xml

if TYPE_CHECKING:
    from xml.etree.ElementTree import Element

Array = np.ndarray
Line = list[tuple[float, float]]
MOST_PIXELS = 16_000_000
MOST_POINTS = 5_000
"""Points of one line: more than any course or wall needs, and few enough to be read at once."""
MOST_PATH = 200_000
_COMMANDS = (",", " ", "l", "L", "h", "v", "H", "V", "c", "C", "\n")
_SVG = "{http://www.w3.org/2000/svg}"
_LAYER = "{http://www.inkscape.org/namespaces/inkscape}label"


@dataclass
class DrawingReport:
    """What was read from a drawing, by meaning, and what was left out."""

    found: dict[str, list[Line]] = field(default_factory=dict)
    closed: dict[str, list[bool]] = field(default_factory=dict)
    notes: list[str] = field(default_factory=list)

    def add(self, meaning: str, line: Line, closed: bool) -> None:
        """A line with what it means."""
        self.found.setdefault(meaning, []).append(line)
        self.closed.setdefault(meaning, []).append(closed)


def read_site(path: Path) -> Site:
    """A site file with what its drawings give filled in."""
    return with_drawings(load(Site, path), path)[0]


def with_drawings(site: Site, source: Path) -> tuple[Site, list[str]]:
    """The site with courses, walls and gates from its drawings, and a report of what was read.

    Raises
    ------
    FileError
        A drawing that is missing, outside the project, or no drawing.
    """
    notes: list[str] = []
    courses, walls = dict(site.courses), dict(site.walls)
    for name, drawing in site.drawings.items():
        report = read_drawing(drawing, source, name)
        gates = tuple(_middle(line) for line in report.found.get("gate", []))
        try:
            for k, (line, closed) in enumerate(_with_ends(report, "course")):
                key = name if k == 0 else f"{name}_{k + 1}"
                own = gates if k == 0 else ()
                courses[key] = Course(points=tuple(line), closed=closed, width=drawing.width, gates=own)
            for k, (line, closed) in enumerate(_with_ends(report, "wall")):
                walls[f"{name}_wall_{k + 1}"] = Wall(points=tuple(line), closed=closed, height=drawing.wall_height)
        except ValidationError as error:
            wanted = explain(error, Course, source).wanted
            raise FileError(source, f"drawings.{name}.file", drawing.file, wanted) from error
        counts = ", ".join(f"{len(lines)} {meaning}" for meaning, lines in report.found.items()) or "nothing"
        notes += [f"{drawing.file}: read {counts}", *report.notes]
    if site.terrain is not None and site.terrain.kind == "map":
        picture = read_bytes(_drawing_path(str(site.terrain.map), source, "terrain.map"))
        table = np.asarray(_open_image(picture, source).mean(axis=2)[::-1] / 255.0)
        if min(table.shape) < 2 or table.size > MOST_HEIGHTS:
            raise FileError(
                source, "terrain.map", site.terrain.map, f"wanted at least 2 x 2 and at most {MOST_HEIGHTS} pixels"
            )
        heights = Heights(hashlib.sha256(picture).hexdigest(), table)
        site = site.model_copy(update={"terrain": site.terrain.with_heights(heights)})
    return site.model_copy(update={"courses": courses, "walls": walls}), notes


def _with_ends(report: DrawingReport, meaning: str) -> list[tuple[Line, bool]]:
    return list(zip(report.found.get(meaning, []), report.closed.get(meaning, []), strict=True))


def _middle(line: Line) -> tuple[float, float]:
    x, y = np.mean(np.array(line), axis=0)
    return float(x), float(y)


def _drawing_path(name: str, source: Path, key: str) -> Path:
    if "://" in name or Path(name).is_absolute():
        raise FileError(source, key, name, "wanted a path relative to this file, inside the project")
    path = inside(project_of(source), source.resolve().parent / name)
    if not is_file(path):
        raise FileError(source, key, name, "no such file")
    return path


def read_drawing(drawing: Drawing, source: Path, name: str = "") -> DrawingReport:
    """Lines of a drawing by meaning, in metres, y upwards."""
    key = f"drawings.{name}.file"
    path = _drawing_path(drawing.file, source, key)
    if path.suffix.lower() == ".svg":
        return _read_svg(path, drawing)
    if path.suffix.lower() == ".png":
        return _read_png(path, drawing, source, name)
    raise FileError(source, key, drawing.file, "wanted an .svg or a .png")


def layers_of(path: Path) -> dict[str, int]:
    """Layers of an SVG by name, each with how many lines it holds."""
    found: dict[str, int] = {}

    def walk(element: Element, layer: str) -> None:
        for child in element:
            tag = child.tag.rpartition("}")[2] if isinstance(child.tag, str) else ""
            if tag in ("g", "svg"):
                walk(child, child.get(_LAYER) or child.get("id") or layer)
            elif layer and _as_path(child, tag):
                found[layer] = found.get(layer, 0) + 1

    walk(_svg_root(path), "")
    return found


def colours_of(path: Path) -> dict[str, int]:
    """The commonest colours of a PNG but its background, as #rrggbb, each with how many pixels it has."""
    pixels = _open_image(read_bytes(path), path)
    colours, counts = np.unique(pixels.reshape(-1, 3), axis=0, return_counts=True)
    order = np.argsort(-counts, kind="stable")[1:9]
    return {"#" + "".join(f"{v:02x}" for v in colours[k]): int(counts[k]) for k in order if counts[k] > 8}


def _svg_root(path: Path) -> Element:
    root = read_xml(path)
    if root.tag not in (f"{_SVG}svg", "svg"):
        raise FileError(path, "", None, "the outermost element must be <svg>")
    return root


def _read_svg(path: Path, drawing: Drawing) -> DrawingReport:
    from svgelements import Matrix

    root = _svg_root(path)
    report = DrawingReport()
    _walk(root, "", Matrix(), drawing, report, path, _extent(root))
    return report


_UNITS = {
    "": 1.0, "px": 1.0, "in": 96.0, "mm": 96.0 / 25.4, "cm": 96.0 / 2.54, "q": 96.0 / 101.6, "pt": 96.0 / 72.0, "pc": 16.0,
    "em": 16.0, "rem": 16.0, "ex": 8.0,
}  # fmt: skip
"""User units of an SVG length (CSS Values and Units, 6.2: 96 to an inch)."""
_LENGTH = re.compile(r"\s*([+-]?(?:\d+\.?\d*|\.\d+)(?:[eE][+-]?\d{1,3})?)\s*([A-Za-z]*|%)\s*")


def user_length(text: str | None, whole: float, default: float = 0.0) -> float:
    """A length of an SVG in user units: ``"10mm"``, ``"100%"`` of `whole`, ``"3"``.

    Raises
    ------
    ValueError
        No length.
    """
    if text is None or not text.strip() or text.strip() == "auto":
        return default
    found = _LENGTH.fullmatch(text)
    if found is None or (found[2] != "%" and found[2].lower() not in _UNITS):
        raise ValueError(f"{shortened(text, 40)!r} is no length")
    return float(found[1]) * (whole / 100.0 if found[2] == "%" else _UNITS[found[2].lower()])


def _extent(root: Element) -> tuple[float, float, float]:
    """Width and height of the drawing's own coordinates, and the y from which up is counted: the lower edge."""
    box = (root.get("viewBox") or "").replace(",", " ").split()
    try:
        if len(box) == 4:
            return float(box[2]), float(box[3]), float(box[1]) + float(box[3])
        # without a view box, a share of the page has no size: up is then counted from y = 0
        width, height = (user_length(root.get(key), 0.0) for key in ("width", "height"))
        return width, height, height
    except ValueError:
        return 0.0, 0.0, 0.0


def _walk(
    element: Element,
    layer: str,
    matrix: object,
    drawing: Drawing,
    report: DrawingReport,
    path: Path,
    extent: tuple[float, float, float],
) -> None:
    from svgelements import Matrix
    from svgelements import Path as Curve

    for child in element:
        tag = child.tag.rpartition("}")[2] if isinstance(child.tag, str) else ""
        try:
            place = Matrix(child.get("transform", "")) * matrix
            text = "" if tag in ("g", "svg") else _as_path(child, tag, extent)
        except Exception as error:  # whatever the package makes of a transform that is none
            raise FileError(path, f"layer {layer}", None, f"<{tag}> cannot be read: {error}") from error
        if tag in ("g", "svg"):
            _walk(child, child.get(_LAYER) or child.get("id") or layer, place, drawing, report, path, extent)
            continue
        if not text:
            if tag and tag not in ("defs", "namedview", "metadata", "title", "desc", "style"):
                report.notes.append(f"layer {layer or 'none'}: <{tag}> is not read")
            continue
        meaning = drawing.legend.get(
            layer, layer.rstrip("s") if layer.rstrip("s") in ("wall", "course", "gate") else ""
        )
        if not meaning:
            report.notes.append(f"layer {layer or 'none'} has no meaning in the legend; left out")
            continue
        try:
            if len(text) > MOST_PATH or sum(map(text.count, _COMMANDS)) > MOST_POINTS:
                raise ValueError(f"it has more than {MOST_POINTS} points; simplify the drawing")
            curves = abs(Curve(text) * place).as_subpaths()  # abs: the transform is otherwise only remembered
            for curve in curves:
                _sample(Curve(curve), drawing, report, meaning, extent[2])
        except Exception as error:  # whatever the package makes of a path that is none
            raise FileError(path, f"layer {layer}", None, f"has a path that cannot be read: {error}") from error


def _as_path(element: Element, tag: str, extent: tuple[float, float, float] = (0.0, 0.0, 0.0)) -> str:
    """An element as the data of a path, "" where it draws no line; shares are of the drawing's `extent`."""
    width, height, _ = extent
    get = element.get
    if tag == "path":
        return element.get("d") or ""
    if tag in ("polyline", "polygon"):
        return "M " + (element.get("points") or "") + (" Z" if tag == "polygon" else "")
    if tag == "line":
        x1, x2 = (user_length(get(k), width) for k in ("x1", "x2"))
        y1, y2 = (user_length(get(k), height) for k in ("y1", "y2"))
        return f"M {x1},{y1} L {x2},{y2}"
    if tag == "rect":
        x, w = (user_length(get(k), width) for k in ("x", "width"))
        y, h = (user_length(get(k), height) for k in ("y", "height"))
        return f"M {x},{y} h {w} v {h} h {-w} Z"
    if tag in ("circle", "ellipse"):
        x, y = user_length(get("cx"), width), user_length(get("cy"), height)
        across = math.hypot(width, height) / math.sqrt(2.0)  # what a share of a radius is of (SVG 2, 7.11)
        keys = ("r", "r") if tag == "circle" else ("rx", "ry")
        rx, ry = (
            user_length(get(k), across if tag == "circle" else side)
            for k, side in zip(keys, (width, height), strict=True)
        )
        return f"M {x - rx},{y} a {rx},{ry} 0 1,0 {2 * rx},0 a {rx},{ry} 0 1,0 {-2 * rx},0 Z" if rx > 0.0 < ry else ""
    return ""


def _sample(curve: object, drawing: Drawing, report: DrawingReport, meaning: str, height: float) -> None:
    from svgelements import Close, Move
    from svgelements import Line as Straight

    line: Line = []
    closed = False
    for piece in curve:  # type: ignore[attr-defined]
        if isinstance(piece, Move):
            steps = [1.0]
        elif isinstance(piece, Close):
            closed = True
            continue
        elif isinstance(piece, Straight):
            steps = [1.0]
        else:
            count = max(4, min(64, math.ceil(piece.length(error=1e-3) * drawing.scale / 0.25)))
            steps = [(k + 1) / count for k in range(count)]
        for share in steps:
            point = piece.end if share == 1.0 else piece.point(share)
            at = (drawing.origin[0] + point.x * drawing.scale, drawing.origin[1] + (height - point.y) * drawing.scale)
            if not all(map(math.isfinite, at)):
                raise ValueError("a point is not finite")
            if not line or math.dist(line[-1], at) > 1e-6:
                line.append(at)
    if len(line) > 1 and math.dist(line[0], line[-1]) < 1e-6:
        line.pop()
        closed = True
    if len(line) >= 2:
        report.add(meaning, line, closed)


def _open_image(data: bytes, path: Path) -> Array:
    from PIL import Image

    try:
        with Image.open(io.BytesIO(data), formats=["PNG"]) as image:
            if image.width * image.height > MOST_PIXELS:
                raise FileError(path, "", f"{image.width}x{image.height}", f"wanted at most {MOST_PIXELS} pixels")
            return np.asarray(image.convert("RGB"))
    except FileError:
        raise
    except Exception as error:  # damaged in ways that the package names by many kinds of error
        raise FileError(path, "", None, f"not a readable PNG: {error}") from error


def _read_png(path: Path, drawing: Drawing, source: Path, name: str) -> DrawingReport:
    """Walls and gates are the outlines of their coloured areas; a course is the middle line of its stroke."""
    import contourpy

    pixels = _open_image(read_bytes(path), path)[::-1]
    report = DrawingReport()
    for colour, meaning in drawing.legend.items():
        try:
            wanted = np.array([int(colour[k : k + 2], 16) for k in (1, 3, 5)])
            if len(colour) != 7 or colour[0] != "#":
                raise ValueError
        except ValueError as error:
            raise FileError(source, f"drawings.{name}.legend", colour, "wanted a colour such as #a8452b") from error
        there = (np.abs(pixels.astype(int) - wanted).max(axis=2) <= 24).astype(float)
        if not there.any():
            report.notes.append(f"{drawing.file}: no pixel is {colour} ({meaning})")
            continue
        if meaning == "ground":
            report.notes.append(f"{drawing.file}: {colour} is ground and needs no lines")
            continue
        outlines = contourpy.contour_generator(z=np.pad(there, 1)).lines(0.5)
        for outline in outlines:
            points = drawing.origin + (np.asarray(outline) - 1.0 + 0.5) * drawing.scale
            points = middle_line(points) if meaning == "course" else thinned(points[:-1], drawing.scale)
            if len(points) >= 2:
                report.add(meaning, [(float(x), float(y)) for x, y in points], meaning == "wall")
    return report


def thinned(points: Array, tolerance: float) -> Array:
    """A line with fewer points, nowhere farther than `tolerance` away (D. Douglas, T. Peucker, 1973)."""
    keep = np.zeros(len(points), dtype=bool)
    keep[[0, -1]] = True
    waiting = [(0, len(points) - 1)]
    while waiting:
        a, b = waiting.pop()
        if b - a < 2:
            continue
        along = points[b] - points[a]
        length = float(np.hypot(*along))
        off = points[a + 1 : b] - points[a]
        away = np.hypot(*off.T) if length < 1e-12 else np.abs(off[:, 0] * along[1] - off[:, 1] * along[0]) / length
        k = int(np.argmax(away))
        if away[k] > tolerance:
            keep[a + 1 + k] = True
            waiting += [(a, a + 1 + k), (a + 1 + k, b)]
    return np.asarray(points[keep])


def middle_line(outline: Array) -> Array:
    """Middle (points, 2) of a drawn stroke from its outline (points, 2): halfway between the two sides that join its farthest ends."""
    every = max(1, len(outline) // 200)
    apart = np.hypot(*(outline[:, None, :] - outline[None, ::every, :]).transpose(2, 0, 1))
    first, second = divmod(int(np.argmax(apart)), apart.shape[1])
    a, b = sorted((first, second * every))
    one, two = outline[a : b + 1], np.concatenate([outline[b:], outline[: a + 1]])[::-1]
    count = max(8, min(200, len(one) // 6))

    def spread(line: Array) -> Array:
        along = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(line, axis=0).T))])
        at = np.linspace(0.0, along[-1], count)
        return np.stack([np.interp(at, along, line[:, k]) for k in range(2)], axis=1)

    return np.asarray(0.5 * (spread(one) + spread(two)))
