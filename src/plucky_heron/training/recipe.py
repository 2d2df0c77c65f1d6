"""A recipe: a learning method with its settings, its stop rules, and how many seeds."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any, ClassVar

from pydantic import Field, PrivateAttr, ValidationError, model_validator

from plucky_heron.errors import FileError, StateError, UnitError, did_you_mean
from plucky_heron.faults import explain
from plucky_heron.files import Settings, inside, read_toml, validate
from plucky_heron.learning.guide import GUIDES, preset
from plucky_heron.learning.method import METHODS, OwnMethod, is_own, load_own_method, settings_class
from plucky_heron.learning.settings import in_samples
from plucky_heron.training.stopping import MOST_STEPS, AnyRule, StopRule
from plucky_heron.units import Time
from plucky_heron.upgrading import FORMAT, upgrade

MOST_FILMS = 100
"""Films of a run: each takes a core's time of its own, behind all other work."""


class EvaluationPlan(Settings):
    """How often and on how many fixed starts the policy is evaluated, with its mean command."""

    every: int = Field(default=24_576, ge=1, le=MOST_STEPS)
    """Control steps between evaluations."""
    episodes: int = Field(default=64, ge=1, le=4096)
    film_every: int | None = Field(default=None, ge=1, le=MOST_STEPS)
    """Control steps between evaluations whose policies are kept and filmed, the first and the best among them; see `due_films`."""


class ResidualPlan(Settings):
    """What the method corrects, instead of commanding alone."""

    on: str = "regulator"
    """``regulator``, or the name of a rule of the task."""
    reach: float = Field(default=0.3, gt=0, le=2)
    """Largest correction, as a share of half the command range."""


class ShapingPlan(Settings):
    """What shapes the reward while learning; see `shaping`."""

    potential: str
    """Formula over the task's signals, in points of the score: how far along the episode is."""
    symmetric: bool = False
    """Whether it is the same with left and right exchanged; if not, nothing is learned in the mirror."""


class Recipe(Settings):
    """A recipe file."""

    kind_of_file: ClassVar[str] = "recipes"

    format: int = FORMAT
    name: str = ""
    notes: str = ""
    method: str = "ppo"
    seeds: int = Field(default=1, ge=1, le=100)
    copies: int = Field(default=64, ge=1, le=4096)
    """Episodes simulated at a time."""
    steps: int = Field(default=500_000, ge=1, le=MOST_STEPS)
    """Control steps after which a run ends at the latest."""
    schedule_steps: int | None = Field(default=None, ge=1, le=MOST_STEPS)
    """Control steps after which schedules have run out; `steps` where it is not given. A run that goes on keeps those it began with."""
    training_time_limit: Time | None = Field(default=None, gt=0, le=1e7)
    """Training episodes end then, so that more starts are met; valued like the task's time limit. Evaluations are not touched."""
    tasks: tuple[str, ...] = ()
    """Tasks that it was made for; empty for any."""
    fit: bool = False
    """Whether settings that are not given here are the method's standard, and take what fits the task; see `fitting`."""
    settings: dict[str, Any] = Field(default_factory=dict)
    residual: ResidualPlan | None = None
    shaping: ShapingPlan | None = None
    evaluation: EvaluationPlan = EvaluationPlan()
    stop: tuple[AnyRule, ...] = ()

    _own: OwnMethod | None = PrivateAttr(default=None)

    @property
    def schedule(self) -> int:
        """Control steps after which schedules have run out."""
        return self.schedule_steps or self.steps

    @property
    def own(self) -> OwnMethod | None:
        """The method of the project's own file that the recipe names, once it was read with the recipe; see `with_own`."""
        return self._own

    def with_own(self, folder: Path, source: Path | str) -> Recipe:
        """The recipe with the method of its project's own file, trusted as it is; itself where it names none.

        Raises
        ------
        UntrustedError, FileError
            See `load_own_method`.
        """
        return self.knowing(load_own_method(folder, self.method, source)) if is_own(self.method) else self

    def knowing(self, own: OwnMethod | None) -> Recipe:
        """The recipe with this method of its project's own."""
        made = self.model_copy()
        made._own = own
        return made

    @property
    def standard(self) -> dict[str, Any]:
        """Settings that hold where the recipe states no others: the method's standard, where it fits the task, else those of its schema."""
        return dict(GUIDES[self.method].standard) if self.fit and self.method in GUIDES else {}

    def schema_of_settings(self) -> type[Settings]:
        """The schema of its method's settings."""
        if is_own(self.method) and self._own is None:
            raise StateError(f"{self.method} was not read with its recipe")
        return settings_class(self.method, self._own)

    @model_validator(mode="after")
    def _method_known(self) -> Recipe:
        if self.method not in METHODS and not is_own(self.method):
            raise ValueError(
                f"method {self.method!r} is unknown; there are {', '.join(METHODS)}, and .py files of the project"
            )
        return self

    @model_validator(mode="after")
    def _films_few(self) -> Recipe:
        every = self.evaluation.film_every
        if every is not None and (count := self.steps // max(every, self.evaluation.every)) > MOST_FILMS:
            raise ValueError(
                f"evaluation.film_every {every} makes {count} films of a run; make it so large that there are at most {MOST_FILMS}"
            )
        return self

    def in_samples(self, sample_time: float, source: Path | str = "recipe") -> Recipe:
        """The recipe with settings that are stated as times, such as ``"0.4 s"``, in numbers at this sample time (s).

        Raises
        ------
        FileError
            Not a time.
        """
        schema = self.schema_of_settings()
        found: dict[str, Any] = {}
        for key, value in self.settings.items():
            try:
                found |= in_samples(schema, {key: value}, sample_time)
            except UnitError as error:
                raise FileError(source, f"settings.{key}", value, "write a number, or a time such as 0.4 s") from error
        return self if found == self.settings else self.model_copy(update={"settings": found})

    def method_settings(self, source: Path | str = "recipe", sample_time: float = 0.02) -> Settings:
        """The checked settings of the method, with what is stated as a time in numbers at this sample time (s)."""
        schema = self.schema_of_settings()
        settings = self.in_samples(sample_time, source).settings
        # TOML has no word for nothing
        given = {k: None if v == "off" else v for k, v in (self.standard | settings).items()}
        try:
            return schema.model_validate(given)
        except ValidationError as error:
            fault = explain(error, schema, source)
            raise FileError(source, f"settings.{fault.key}", fault.value, fault.wanted) from error


STANDARD = "standard"
"""Name of the recipe that every project has without a file of it."""


def standard_recipe(method: str = "ppo") -> Recipe:
    """A method by its standard, with what fits the task."""
    return Recipe.model_validate({"name": STANDARD, **preset(method)})


def recipe_text(recipe: Recipe) -> str:
    """A recipe as its file would say it: what it leaves at its default is left out."""
    import tomlkit

    plain, idle = json.loads(recipe.model_dump_json()), json.loads(Recipe().model_dump_json())
    always = {"format": FORMAT} | {key: plain.pop(key) for key in ("name", "method", "steps", "copies")}
    settings = {key: "off" if value is None else value for key, value in plain.pop("settings").items()}
    said = {key: _without_none(value) for key, value in plain.items() if value != idle[key]}
    return tomlkit.dumps(always | said | ({"settings": settings} if settings else {}))


def _without_none(data: Any) -> Any:
    if isinstance(data, dict):
        return {key: _without_none(value) for key, value in data.items() if value is not None}
    return [_without_none(value) for value in data] if isinstance(data, list) else data


def read_recipe(folder: Path, name: str) -> Recipe:
    """Read ``recipes/<name>.toml`` of a project, settings checked; without that file, ``standard`` is the standard of PPO."""
    path = inside(folder, f"recipes/{name}.toml")
    if name == STANDARD and not path.exists():
        return standard_recipe()
    if not path.is_file():
        known = sorted(p.stem for p in (folder / "recipes").glob("*.toml"))
        raise FileError(path, "", None, f"no such recipe; {did_you_mean(name, known)}")
    recipe = validate(Recipe, read_toml(path), path).with_own(folder, path)
    recipe.method_settings(path)
    return recipe if recipe.name else recipe.model_copy(update={"name": name})


def recipe_from_json(text: str, source: Path | str) -> Recipe:
    """A recipe as a run kept it.

    Raises
    ------
    FileError
        Damaged.
    """
    try:
        data = json.loads(text)
        if isinstance(data, dict):
            upgrade(data, Recipe.kind_of_file)
        if isinstance(data, dict) and isinstance(data.get("stop"), list):
            data["stop"] = [_without_others_keys(rule) for rule in data["stop"]]
        return Recipe.model_validate(data)
    except ValidationError as error:
        raise explain(error, Recipe, source) from error
    except (RecursionError, OverflowError, ValueError) as error:
        raise FileError(source, "", None, f"damaged: {error}") from error


def _without_others_keys(rule: Any) -> Any:
    """A stop rule as it is written now: runs from before kept the keys of all rules with each, at their defaults."""
    known = StopRule.kinds.get(str(rule.get("kind"))) if isinstance(rule, dict) else None
    if known is None:
        return rule
    idle = {"of": "success", "running": 1, "after": 0}
    return {k: v for k, v in rule.items() if k in known.model_fields or (v is not None and idle.get(k) != v)}


def with_changes(recipe: Recipe, changes: dict[str, str], source: str = "--set") -> Recipe:
    """`recipe` with ``key=value`` changes: a key of the recipe, or of its method's settings.

    Raises
    ------
    FileError
        Unknown key, or a value that does not fit.
    """
    data = recipe.model_dump()
    known = recipe.schema_of_settings().model_fields
    for key, text in changes.items():
        value = literal(text)
        if key in known:
            data["settings"][key] = value
        elif key == "steps":
            data = with_budget(data, value)
        elif key in ("copies", "seeds", "fit", "schedule_steps"):
            data[key] = value
        elif key == "training_time_limit":
            data[key] = None if value is None else text
        elif key in ("evaluation.every", "evaluation.episodes", "evaluation.film_every"):
            data["evaluation"][key.partition(".")[2]] = value
        elif key == "residual":
            data["residual"] = None if value is None else {"on": value}
        elif key == "residual.reach":
            data["residual"] = (data["residual"] or {}) | {"reach": value}
        elif key == "shaping.potential":
            data["shaping"] = None if value is None else (data["shaping"] or {}) | {"potential": text}
        elif key == "shaping.symmetric":
            data["shaping"] = (data["shaping"] or {}) | {"symmetric": value}
        else:
            others = [
                "copies",
                "steps",
                "schedule_steps",
                "fit",
                "training_time_limit",
                "evaluation.every",
                "evaluation.episodes",
                "evaluation.film_every",
                "residual",
                "residual.reach",
                "shaping.potential",
                "shaping.symmetric",
            ]
            raise FileError(source, key, text, f"unknown setting; {did_you_mean(key, [*known, *others])}")
    try:
        changed = Recipe.model_validate(data).knowing(recipe.own)
    except ValidationError as error:
        raise explain(error, Recipe, source) from error
    changed.method_settings(source)
    return changed


def with_budget(data: dict[str, Any], steps: Any) -> dict[str, Any]:
    """A recipe's table with another number of steps; a budget among its rules that was all of them follows."""
    rules = [
        rule | {"steps": steps} if rule.get("kind") == "budget" and rule.get("steps") == data.get("steps") else rule
        for rule in (r if isinstance(r, dict) else r.model_dump() for r in data.get("stop", ()))
    ]
    return data | {"steps": steps, "stop": rules}


def literal(text: str) -> Any:
    """A typed value: as TOML reads it, "off" for none, else the text itself."""
    import tomllib

    if text.strip().lower() in ("none", "off"):
        return None
    try:
        return tomllib.loads(f"x = {text}")["x"]
    except (ValueError, RecursionError, OverflowError):
        return text
