"""Courses, walls, gates and heights read from drawings: SVG by layer names, PNG by the colours of a legend.

Drawings stand beside the site file and never outside its project; they are read, not run.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from defusedxml import DefusedXmlException
from defusedxml.ElementTree import ParseError, parse

from plucky_heron.errors import FileError
from plucky_heron.files import inside, load
from plucky_heron.machine.meshes import project_of
from plucky_heron.machine.site import Course, Drawing, Site, Terrain, Wall

if TYPE_CHECKING:
    from xml.etree.ElementTree import Element

Array = np.ndarray
Line = list[tuple[float, float]]
MOST_PIXELS = 16_000_000
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
        for k, (line, closed) in enumerate(_with_ends(report, "course")):
            key = name if k == 0 else f"{name}_{k + 1}"
            courses[key] = Course(points=tuple(line), closed=closed, width=drawing.width, gates=gates if k == 0 else ())
        for k, (line, closed) in enumerate(_with_ends(report, "wall")):
            walls[f"{name}_wall_{k + 1}"] = Wall(points=tuple(line), closed=closed, height=drawing.wall_height)
        counts = ", ".join(f"{len(lines)} {meaning}" for meaning, lines in report.found.items()) or "nothing"
        notes += [f"{drawing.file}: read {counts}", *report.notes]
    if site.terrain is not None and site.terrain.kind == "map":
        path = _drawing_path(str(site.terrain.map), source, "terrain.map")
        site = site.model_copy(update={"terrain": site.terrain.model_copy(update={"map": str(path)})})
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
    if not path.is_file():
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
    pixels = _open_image(path)
    colours, counts = np.unique(pixels.reshape(-1, 3), axis=0, return_counts=True)
    order = np.argsort(-counts, kind="stable")[1:9]
    return {"#" + "".join(f"{v:02x}" for v in colours[k]): int(counts[k]) for k in order if counts[k] > 8}


def _svg_root(path: Path) -> Element:
    try:
        root: Element | None = parse(str(path), forbid_dtd=True).getroot()
    except DefusedXmlException as error:
        raise FileError(path, "", None, "has a document type or entities; remove them") from error
    except (ParseError, ValueError) as error:
        raise FileError(path, "", None, f"not valid XML: {error}") from error
    if root is None or root.tag not in (f"{_SVG}svg", "svg"):
        raise FileError(path, "", None, "the outermost element must be <svg>")
    return root


def _read_svg(path: Path, drawing: Drawing) -> DrawingReport:
    from svgelements import Matrix

    root = _svg_root(path)
    report = DrawingReport()
    _walk(root, "", Matrix(), drawing, report, path, _height(root))
    return report


def _height(root: Element) -> float:
    box = (root.get("viewBox") or "").replace(",", " ").split()
    try:
        if len(box) == 4:
            return float(box[1]) + float(box[3])
        return float("".join(c for c in root.get("height", "0") if c.isdigit() or c == ".") or 0.0)
    except ValueError:
        return 0.0


def _walk(
    element: Element, layer: str, matrix: object, drawing: Drawing, report: DrawingReport, path: Path, height: float
) -> None:
    from svgelements import Matrix
    from svgelements import Path as Curve

    for child in element:
        tag = child.tag.rpartition("}")[2] if isinstance(child.tag, str) else ""
        place = Matrix(child.get("transform", "")) * matrix
        if tag in ("g", "svg"):
            _walk(child, child.get(_LAYER) or child.get("id") or layer, place, drawing, report, path, height)
            continue
        text = _as_path(child, tag)
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
            curves = abs(Curve(text) * place).as_subpaths()  # abs: the transform is otherwise only remembered
            for curve in curves:
                _sample(Curve(curve), drawing, report, meaning, height)
        except (ValueError, TypeError, IndexError, ZeroDivisionError, AttributeError) as error:
            raise FileError(path, f"layer {layer}", None, f"has a path that cannot be read: {error}") from error


def _as_path(element: Element, tag: str) -> str:
    if tag == "path":
        return element.get("d") or ""
    if tag in ("polyline", "polygon"):
        return "M " + (element.get("points") or "") + (" Z" if tag == "polygon" else "")
    get = element.get
    if tag == "line":
        return f"M {get('x1', '0')},{get('y1', '0')} L {get('x2', '0')},{get('y2', '0')}"
    if tag == "rect":
        x, y, w, h = (float(get(k, "0")) for k in ("x", "y", "width", "height"))
        return f"M {x},{y} h {w} v {h} h {-w} Z"
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


def _open_image(path: Path) -> Array:
    from PIL import Image, UnidentifiedImageError

    try:
        with Image.open(path, formats=["PNG"]) as image:
            if image.width * image.height > MOST_PIXELS:
                raise FileError(path, "", f"{image.width}x{image.height}", f"wanted at most {MOST_PIXELS} pixels")
            return np.asarray(image.convert("RGB"))
    except (UnidentifiedImageError, OSError, SyntaxError, Image.DecompressionBombError) as error:
        raise FileError(path, "", None, f"not a readable PNG: {error}") from error


def _read_png(path: Path, drawing: Drawing, source: Path, name: str) -> DrawingReport:
    """Walls and gates are the outlines of their coloured areas; a course is the middle line of its stroke."""
    import contourpy

    pixels = _open_image(path)[::-1]
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
    """Middle of a drawn stroke from its outline: halfway between the two sides that join its farthest ends."""
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


def read_heights(terrain: Terrain) -> Array:
    """Brightness 0..1 of a map, rows from low to high y."""
    return np.asarray(_open_image(Path(str(terrain.map))).mean(axis=2)[::-1] / 255.0)
