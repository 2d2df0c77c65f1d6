"""What is said of a wrong file: the key as it stands there, and what a person would write in its place."""

from __future__ import annotations

import copy
import tomllib
from collections.abc import Iterator
from typing import Any

import pytest

from plucky_heron.errors import FileError, HeronError
from plucky_heron.files import validate
from plucky_heron.machine.schema import Machine
from plucky_heron.machine.site import Site
from plucky_heron.project import demo_source
from plucky_heron.task.schema import Task
from plucky_heron.training.recipe import Recipe

CART: dict[str, Any] = {
    "format": 2,
    "bodies": {"cart": {"mass": 2.0, "shapes": [{"kind": "box", "size": [1, 1, 1]}]}},
    "joints": {"rail": {"kind": "slider", "child": "cart", "axis": [1, 0, 0]}},
}
WRONG: tuple[Any, ...] = (0.8, "abc", True, [], {}, [1, 2, 3, 4, 5, 6, 7, 8], ["x"], "-3 kg", [[1]], {"a": 1})
FOREIGN = ("Input", "valid ", "instance of", "tuple", "dictionary", "tag", "None", "after validation", "..")
"""Words of the schema's own complaints."""


def put(data: dict[str, Any], place: tuple[str | int, ...], value: Any) -> dict[str, Any]:
    """A copy with another value at a place; tables that lead to it are made."""
    made: Any = copy.deepcopy(data)
    whole = made
    for key in place[:-1]:
        made = made.setdefault(key, {}) if isinstance(made, dict) else made[key]
    made[place[-1]] = value
    return whole  # type: ignore[no-any-return]


@pytest.mark.parametrize(
    ("place", "value", "said"),
    [
        (("bodies", "cart", "centre"), 0.8, 'bodies.cart.centre = 0.8: wanted a list of 3, each a quantity in m, such as "1.5 m"'),
        (("bodies", "cart", "centre"), [0, 0, 0, 0], 'bodies.cart.centre: wanted a list of 3, each a quantity in m, such as "1.5 m"; there are 4'),
        (("bodies", "cart", "inertia"), [1, 1], "wanted a list of xx, yy, zz, or of xx, yy, zz, xy, xz, yz, each a quantity in kg*m**2"),
        (("bodies", "cart", "shapes", 0, "solid"), "maybe", "bodies.cart.shapes.0.solid = 'maybe': wanted true or false"),
        (("bodies", "cart", "mass"), True, 'bodies.cart.mass = True: wanted a quantity in kg, such as "1.5 kg"'),
        (("bodies", "cart"), {}, 'bodies.cart.mass: is missing; wanted a quantity in kg, such as "1.5 kg"'),
        (("bodies", "cart", "masss"), 1, "bodies.cart.masss: unknown key; did you mean mass?"),
        (("bodies", "cart", "no_contact"), [], "bodies.cart.no_contact: belongs to the file, not to [bodies.cart]; write it above the first line in brackets"),
        (("joints", "rail", "kind"), "hing", "joints.rail.kind = 'hing': wanted 'hinge', 'slider', 'fixed', 'planar', 'ball' or 'free'"),
        (("forces", "a"), {}, "forces.a.kind: is missing; wanted 'spring', 'rod', 'pin', 'tyre', 'hull', 'float' or 'wing'"),
        (("forces", "a"), {"kind": "sprung"}, "forces.a.kind = 'sprung': wanted 'spring',"),
        (("forces", "a"), 1, "forces.a = 1: wanted a table with kind = 'spring', 'rod',"),
        (("forces", "a"), {"kind": "tyre", "wheel": "cart", "radius": 1, "along": 1, "across": 1, "friction": 0.8}, "forces.a.friction = 0.8: wanted a list of 2, each a number"),
        (("forces", "a"), {"kind": "tyre", "wheel": "cart", "radius": True}, 'forces.a.radius = True: wanted a quantity in m, such as "1.5 m"'),
        (("drives", "a"), {"kind": "effort", "joint": "rail"}, "drives.a.limit: is missing; wanted a number, or a quantity with its unit in quotes"),
        (("name",), 3, "name = 3: wanted a text in quotes"),
        (("bodies",), {}, "bodies: wanted at least 1, each a table with mass, centre,"),
    ],
)  # fmt: skip
def test_a_fault_names_the_key_and_what_would_be_right(place: tuple[str | int, ...], value: Any, said: str) -> None:
    with pytest.raises(FileError) as fault:
        validate(Machine, put(CART, place, value), "cart.toml")
    assert said in str(fault.value)


@pytest.mark.parametrize(
    ("place", "value", "said"),
    [
        (("settings",), 3, "settings = 3: wanted a table"),
        (("stop",), [{"kind": "good enough", "at_least": []}], 'at_least: wanted a number, such as "1.5"'),
        (("stop",), [{"kind": "good enough", "at_leest": 1}], "at_leest: unknown key; did you mean at_least?"),
        (("steps",), "many", "steps = 'many': wanted a whole number"),
        (("evaluation", "every"), 0.5, "evaluation.every = 0.5: wanted a whole number"),
    ],
)
def test_so_it_is_with_a_recipe(place: tuple[str | int, ...], value: Any, said: str) -> None:
    with pytest.raises(FileError) as fault:
        validate(Recipe, put({"format": 2, "method": "ppo"}, place, value), "own.toml")
    assert said in str(fault.value)


def places(data: Any, at: tuple[str | int, ...] = ()) -> Iterator[tuple[str | int, ...]]:
    """Every place of a file."""
    inner = data.items() if isinstance(data, dict) else enumerate(data) if isinstance(data, list) else ()
    for key, value in inner:
        yield (*at, key)
        yield from places(value, (*at, key))


@pytest.mark.parametrize(
    ("model", "file"),
    [(Machine, "machines/marshcart"), (Machine, "machines/sower"), (Site, "sites/creek"), (Task, "tasks/lane"), (Recipe, "recipes/ppo")],
)  # fmt: skip
def test_whatever_stands_in_a_file_is_told_of_in_the_words_of_the_file(model: Any, file: str) -> None:
    data = tomllib.loads((demo_source() / f"{file}.toml").read_text())
    seen: set[object] = set()
    told = 0
    for place in places(data):
        kind = tuple("#" if isinstance(key, int) else key for key in place[-2:])
        if kind in seen:
            continue
        seen.add(kind)
        for value in WRONG:
            try:
                validate(model, put(data, place, value), "file")
            except HeronError as fault:
                assert not any(word in getattr(fault, "wanted", "") for word in FOREIGN), str(fault)
                told += 1
    assert told > 3 * len(seen)
