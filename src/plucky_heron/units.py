"""Quantities with units: reading "30 deg" or "2 kN" into SI numbers, and writing numbers back for people."""

from __future__ import annotations

import functools
import math
import re
from dataclasses import dataclass
from typing import TYPE_CHECKING, Annotated, Any, get_args

from pydantic import AfterValidator, BeforeValidator

from plucky_heron.errors import UnitError, quoted

if TYPE_CHECKING:
    import pint

Dimension = tuple[int, int, int, int]
"""Exponents of kilogram, metre, second and radian."""

DIMENSIONLESS: Dimension = (0, 0, 0, 0)
_BASES = ("kilogram", "meter", "second", "radian")
_ALLOWED = re.compile(r"[0-9A-Za-z_+\-*/^().%°²³·µ \t]{1,60}")
_POWER = re.compile(
    r"(?P<bracket>\)\s*)?(?:\*\*|\^)\s*(?P<exponent>(?:[+-]?\d(?:\.\d+)?|\(\s*[+-]?\d(?:\.\d+)?\s*\))(?![\d.(]|\s*(?:\*\*|\^)))?"
)
_NUMBER = re.compile(r"[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d{1,3})?")


def _may_be_read(text: str) -> bool:
    """Whether a text is short arithmetic of numbers and units whose powers cannot grow without end.

    A power is of a name, a number, or at most one bracket, and its exponent a plain number of one digit: nothing that is
    computed from it first, as ``9**(9*9*9*9)`` would be.
    """
    if not _ALLOWED.fullmatch(text):
        return False
    powers = list(_POWER.finditer(text))
    if any(not power["exponent"] for power in powers):
        return False
    return sum(power["bracket"] is not None for power in powers) <= 1


@functools.cache
def _registry() -> pint.UnitRegistry[Any]:
    import pint

    return pint.UnitRegistry(autoconvert_offset_to_baseunit=True, cache_folder=":auto:")


def plain_number(text: str) -> bool:
    """Whether a text is a number without a unit."""
    return _NUMBER.fullmatch(text.strip()) is not None


def whole_number(text: str) -> int | None:
    """The whole number that a text is, None if it is anything else; figures of other scripts are not taken for ours."""
    text = text.strip().replace("−", "-")
    return int(text) if re.fullmatch(r"[+-]?[0-9]{1,15}", text) else None


def parse(text: str | int | float, unit: str = "") -> float:
    """Read a quantity such as ``"2 kN"``, ``"9.81/2"`` or ``3`` as a number in the SI unit `unit`.

    A bare number is taken to be in `unit` already. ``"95 %"`` is 0.95.

    Raises
    ------
    UnitError
        Not a quantity, not finite, or of another dimension than `unit`.
    """
    if isinstance(text, bool):
        raise UnitError(f"{text!r} is not a quantity; write for example {example(unit)}")
    if not isinstance(text, str | int | float):
        raise UnitError(f"{quoted(text)} is not a quantity; write for example {example(unit)}")
    try:
        value = float(text) if isinstance(text, int | float) else _parse_text(text.strip(), unit)
    except OverflowError as error:
        raise UnitError(f"{quoted(text)} is too large; write for example {example(unit)}") from error
    if not math.isfinite(value):
        raise UnitError(f"{quoted(text)} is not finite; write for example {example(unit)}")
    return value


@functools.lru_cache(maxsize=4096)
def _parse_text(text: str, unit: str) -> float:
    if _NUMBER.fullmatch(text):
        return float(text)
    if not _may_be_read(text):
        raise UnitError(f"{quoted(text)} is not a quantity; write for example {example(unit)}")
    prepared = re.sub(r"%\s*$", " percent", text).replace("·", "*").replace("°", " deg")
    quantity: Any
    try:
        quantity = _registry().Quantity(prepared)
    except Exception as error:  # pint raises many kinds, down to tokenizer errors, for text it cannot read
        raise UnitError(f"{quoted(text)} is not a quantity; write for example {example(unit)}") from error
    if quantity.dimensionless and unit_dimension(unit) != DIMENSIONLESS and quantity.unitless:
        return float(quantity.magnitude)
    try:
        return float(quantity.to(unit or "dimensionless").magnitude)
    except Exception as error:
        raise UnitError(
            f"{quoted(text)} is in {quantity.units:~P}, wanted {unit or 'a plain number'}, such as {example(unit)}"
        ) from error


@functools.lru_cache(maxsize=512)
def unit_dimension(unit: str) -> Dimension:
    """Exponents (kg, m, s, rad) of a unit written as text; ``""`` is dimensionless."""
    if not unit or unit == "%":
        return DIMENSIONLESS
    if not isinstance(unit, str) or not _may_be_read(unit):
        raise UnitError(f"{quoted(unit)} is not a unit; write for example 'm', 'rad/s' or 'N*m'")
    try:
        base = _registry().Unit(unit.replace("·", "*"))
        powers = dict((1 * base).to_base_units().units._units)
    except Exception as error:
        raise UnitError(f"{quoted(unit)} is not a unit; write for example 'm', 'rad/s' or 'N*m'") from error
    unknown = set(powers) - set(_BASES)
    if unknown or any(int(p) != p for p in powers.values()):
        raise UnitError(f"{quoted(unit)} is outside the units of mechanics (kg, m, s, rad)")
    return tuple(int(powers.get(name, 0)) for name in _BASES)  # type: ignore[return-value]


def factor_to_si(unit: str) -> float:
    """How many SI units one `unit` is: 0.0174... for ``"deg"``."""
    return parse(f"1 {unit}", si_unit(unit)) if unit else 1.0


@functools.lru_cache(maxsize=512)
def si_unit(unit: str) -> str:
    """The SI unit of the same dimension, written short: ``"deg"`` -> ``"rad"``, ``"kN"`` -> ``"N"``."""
    return _COMMON.get(unit_dimension(unit)) or _spell(unit_dimension(unit))


_COMMON: dict[Dimension, str] = {
    (0, 0, 0, 0): "",
    (1, 0, 0, 0): "kg",
    (0, 1, 0, 0): "m",
    (0, 0, 1, 0): "s",
    (0, 0, 0, 1): "rad",
    (0, 1, -1, 0): "m/s",
    (0, 1, -2, 0): "m/s**2",
    (0, 0, -1, 1): "rad/s",
    (0, 0, -2, 1): "rad/s**2",
    (0, 0, -1, 0): "1/s",
    (1, 1, -2, 0): "N",
    (1, 2, -2, 0): "N*m",
    (1, 0, -1, 0): "N*s/m",
    (1, 0, -2, 0): "N/m",
}


def _spell(dimension: Dimension) -> str:
    return "*".join(f"{n}**{p}" for n, p in zip(("kg", "m", "s", "rad"), dimension, strict=True) if p)


def example(unit: str) -> str:
    """A quantity of a unit as a person would write it in a file."""
    usual = {"1/s": "50 Hz", "rad": "30 deg"}
    return f'"{usual.get(unit, f"1.5 {unit}".strip())}"'


def pretty_unit(unit: str) -> str:
    """A unit as people write it: ``"N*s/m"`` -> ``"N·s/m"``, ``"m/s**2"`` -> ``"m/s²"``."""
    return unit.replace("**2", "²").replace("**3", "³").replace("*", "·")


def counted(count: int, word: str, many: str = "") -> str:
    """A number of things: ``"1 run"``, ``"2 runs"``; `many` where an s is not enough."""
    return f"{count} {word}" if count == 1 else f"{count} {many or word + 's'}"


def show(value: float, unit: str = "", digits: int = 3) -> str:
    """A number for people, with its unit and a true minus sign: ``"−1.37 m"``."""
    if not math.isfinite(value):
        return "not finite"
    size = abs(value)
    text = (
        f"{value:.{digits}g}"
        if size < 1e-3 or size >= 1e5
        else f"{value:.{max(0, digits - 1 - math.floor(math.log10(size)))}f}"
    )
    if size == 0:
        text = "0"
    return in_print(text) + (f" {pretty_unit(unit)}" if unit else "")


def in_print(number: str) -> str:
    """A formatted number as a book prints it: ``"-1.5e+06"`` -> ``"−1.5·10⁶"``."""
    mantissa, _, exponent = number.partition("e")
    power = f"·10{str(int(exponent)).translate(_RAISED)}" if exponent else ""
    return mantissa.replace("-", "−") + power


_RAISED = str.maketrans("-0123456789", "⁻⁰¹²³⁴⁵⁶⁷⁸⁹")


def how_often(rate: float) -> str:
    """A rate (Hz) for people: ``"50 times a second"``, ``"once a second"``, ``"every 2 s"``."""
    if rate < 1.0:
        return f"every {short_time(1.0 / rate)}"
    return "once a second" if rate == 1.0 else f"{rate:g} times a second"


def short_time(seconds: float) -> str:
    """A time of a clock for people: ``"20 ms"``, from a second on ``"1.5 s"``."""
    return f"{1000 * seconds:.3g} ms" if 0.0 < seconds < 0.9995 else f"{seconds:.3g} s"


@dataclass(frozen=True)
class In:
    """The SI unit of a field of a file, as a mark in its annotation."""

    unit: str


def unit_in(annotation: object) -> str | None:
    """The unit that an annotation carries, also inside a tuple or a union; None without one."""
    if isinstance(annotation, In):
        return annotation.unit
    inner = (*getattr(annotation, "__metadata__", ()), *get_args(annotation))
    return next((unit for part in inner if (unit := unit_in(part)) is not None), None)


def _validator(unit: str) -> BeforeValidator:
    def read(value: object) -> float:
        if not isinstance(value, str | int | float) or isinstance(value, bool):
            raise ValueError(f"wanted {f'a quantity in {unit}' if unit else 'a number'}, such as {example(unit)}")
        try:
            return parse(value, unit)
        except UnitError as error:
            raise ValueError(str(error)) from error

    return BeforeValidator(read)


Number = Annotated[float, _validator(""), In("")]
Mass = Annotated[float, _validator("kg"), In("kg")]
Length = Annotated[float, _validator("m"), In("m")]
Area = Annotated[float, _validator("m**2"), In("m**2")]
Time = Annotated[float, _validator("s"), In("s")]
LONGEST_DELAY = 60.0
"""Seconds of a dead time or a lag at most: what is remembered of them is kept sample by sample."""


def _short_time(value: float) -> float:
    if not 0.0 <= value <= LONGEST_DELAY:
        raise ValueError(f"must be between 0 and {LONGEST_DELAY:g} s")
    return value


Delay = Annotated[Time, AfterValidator(_short_time)]
"""A dead time, a lag, or how long something must hold."""
Frequency = Annotated[float, _validator("1/s"), In("1/s")]
Angle = Annotated[float, _validator("rad"), In("rad")]
Speed = Annotated[float, _validator("m/s"), In("m/s")]
Acceleration = Annotated[float, _validator("m/s**2"), In("m/s**2")]
Force = Annotated[float, _validator("N"), In("N")]
Density = Annotated[float, _validator("kg/m**3"), In("kg/m**3")]
Inertia = Annotated[float, _validator("kg*m**2"), In("kg*m**2")]
Torque = Annotated[float, _validator("N*m"), In("N*m")]
Rate = Annotated[float, _validator("rad/s"), In("rad/s")]
Stiffness = Annotated[float, _validator("N/m"), In("N/m")]
Damping = Annotated[float, _validator("N*s/m"), In("N*s/m")]
TurnDamping = Annotated[float, _validator("N*m*s/rad"), In("N*m*s/rad")]
SquareDamping = Annotated[float, _validator("kg/m"), In("kg/m")]
"""Of force with the square of speed."""
TurnSquareDamping = Annotated[float, _validator("kg*m**2"), In("kg*m**2")]
"""Of torque with the square of the turning rate; a radian counts as one."""
