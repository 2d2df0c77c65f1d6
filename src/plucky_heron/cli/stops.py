"""Stop rules over recorded runs."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any

import typer

from plucky_heron.cli.common import Json, ProjectOption, app, find_runs, report
from plucky_heron.cli.reports import per_cent

if TYPE_CHECKING:
    from plucky_heron.analysis.stopping.replay import Recorded
    from plucky_heron.training.stopping import StopRule


@app.command()
def stops(
    runs: Annotated[list[str], typer.Argument(help="Runs (3) or batches (batch-2).")],
    rule: Annotated[
        list[str],
        typer.Option(
            "--rule",
            help="A rule instead of the first run's own: 'good enough: 95 %, 6 running', 'no more gain: of=score, less_than=1, within=8', "
            "'budget: 200 k', or a formula: 'running(success > 90 % and length < 7 s, 4)'.",
        ),
    ] = [],  # noqa: B006
    try_: Annotated[
        list[str],
        typer.Option(
            "--try", help="NAME=LOW:HIGH[:N], a number of a rule to sweep: running=1:12, good enough.at_least=80%:99%."
        ),
    ] = [],  # noqa: B006
    lose: Annotated[str, typer.Option("--lose", help="Mean success that a chosen rule may lose.")] = "1 %",
    project: ProjectOption = None,
    json_: Json = False,
) -> None:
    """Replay stop rules over recorded runs: where they would have stopped, what that saves and what it loses."""
    from plucky_heron.analysis.stopping.advice import warnings_of_recipe
    from plucky_heron.analysis.stopping.replay import FIGURES, longest_pause, recorded, replay_run, summarise
    from plucky_heron.analysis.stopping.tuning import number_of
    from plucky_heron.errors import StateError
    from plucky_heron.runs.freeze import frozen_recipe
    from plucky_heron.runs.store import RunStore

    allowed = number_of(lose, "--lose")
    if not 0.0 <= allowed <= 1.0:
        raise StateError(f"--lose {lose}: wanted a share of success, 0 to 100 %")
    found, rows = find_runs(runs, project)
    recipe = frozen_recipe(found.folder, rows[0])
    rules = [_rule(text) for text in rule] if rule else list(recipe.stop)
    if not rules:
        raise StateError(f"run {rows[0].id} had no stop rules; give one with --rule")
    store = RunStore(found.folder)
    try:
        records = recorded(store, rows)
    finally:
        store.close()
    replays = [replay_run(rules, one) for one in records]
    total = summarise(replays)
    pause = longest_pause(records, "success", 1.5 / recipe.evaluation.episodes)
    answer: dict[str, Any] = {
        "rule": [one.model_dump() for one in rules],
        "runs": [
            {"run": r.run, "batch": r.batch, "seed": r.seed, "stopped_at": r.stopped_at, "by": r.by or None, "text": r.text, "kept_step": r.kept_step}
            | {name: getattr(r, name) for name in FIGURES}
            for r in replays
        ],
        "median": total.median, "quartiles": total.quartiles, "worst": total.worst, "mean": total.mean, "unknown": total.unknown,
        "longest_pause": None if pause is None else {"evaluations": pause.evaluations, "steps": pause.steps, "run": pause.run},
        "tried": [],
    }  # fmt: skip
    answer["warnings"] = warnings_of_recipe(recipe, rules)
    lines = [*_replay_lines(rules, replays, total), *(f"?  {text}" for text in answer["warnings"])]
    if try_:
        lines += _tune(try_, rules, records, allowed, answer)
    report(answer, json_, lines)


def _rule(text: str) -> StopRule:
    from plucky_heron.errors import StateError, quoted
    from plucky_heron.training.stopping import read_rule
    from plucky_heron.training.stopping.text import table_of

    try:
        return read_rule(table_of(text))
    except ValueError as error:
        raise StateError(f"--rule {quoted(text)}: {error}") from error


def _replay_lines(rules: list[StopRule], replays: list[Any], total: Any) -> list[str]:
    lines = [f"{one.kind}: {one.words()}" for one in rules]
    lines.append(
        f"{'run':>4} {'batch':>5} {'seed':>4} {'stopped at':>10} {'saved':>7} {'seconds':>8} {'lost':>7} {'score':>7}  by"
    )
    for r in replays:
        lines.append(
            f"{r.run:>4} {r.batch:>5} {r.seed:>4} {r.stopped_at:>10} {100 * r.saved_share:>5.0f} % {r.saved_seconds:>8.1f} "
            f"{100 * r.lost_success:>7.1f} {r.lost_score:>7.2f}  {r.by or r.text}"
        )
    low, high = total.quartiles["saved_share"]
    lines.append(
        f"median: saves {per_cent(total.median['saved_share'])} of the steps (quartiles {per_cent(low)} to {per_cent(high)}), "
        f"loses {100 * total.median['lost_success']:.1f} points of success, score {total.median['lost_score']:.2f}; "
        f"worst {100 * total.worst['lost_success']:.1f} points"
    )
    if total.unknown:
        lines.append(
            f"{total.unknown} of {len(replays)} recordings end before any of these rules acts: what going on would have brought is not known"
        )
    return lines


def _tune(
    tries: list[str], rules: list[StopRule], records: list[Recorded], lose: float, answer: dict[str, Any]
) -> list[str]:
    """Sweep, put the result into `answer`, and say what is best."""
    from plucky_heron.analysis.stopping.tuning import (
        choose,
        doubt,
        frontier,
        judge,
        most_saved,
        most_words,
        parse_try,
        resolution,
        sure_lost,
        sweep,
    )

    axes = [parse_try(text, rules) for text in tries]
    names = [axis.name(rules) for axis in axes]
    tried = sweep(records, rules, axes)
    edge, chosen, judged = frontier(tried), choose(tried, allowed=lose), judge(records, tried, lose)
    answer["tried"] = [
        {"values": dict(zip(names, t.values, strict=True)), "saved": t.median_saved, "lost": t.mean_lost, "lost_worst": float(t.lost.max()), "frontier": k in edge}
        for k, t in enumerate(tried)
    ]  # fmt: skip
    answer["chosen"] = answer["tried"][chosen] | {"allowed": lose}
    most = most_saved(records, lose)
    answer["most_saved"] = most
    answer["judged"] = None if judged is None else vars(judged)

    def said(k: int) -> str:
        shown = ", ".join(axis.show(rules, value) for axis, value in zip(axes, tried[k].values, strict=True))
        return f"{shown}: saves {per_cent(tried[k].median_saved)} (median), loses {100 * tried[k].mean_lost:.2f} points (mean), worst {100 * tried[k].lost.max():.1f}"

    lines = [f"{len(tried)} rules tried over {len(records)} runs; none saves more and loses less than these:"]
    lines += [f"{'* ' if k == chosen else '  '}{said(k)}" for k in edge]
    if chosen not in edge:
        lines.append(f"* {said(chosen)}")
    within = sure_lost(tried[chosen].lost) <= lose + 1e-12
    which = "saves most of those that lose" if within else "loses least: none loses"
    lines.append(
        f"* {which} at most {100 * lose:.1f} points, by the upper end of the 95 % interval; {doubt(resolution(tried), len(records))}"
    )
    lines.append(f"{most_words(most, lose)}; this one saves {per_cent(float(tried[chosen].saved.mean()))}")
    if judged is None:
        lines.append("one run alone cannot judge a choice made on it: record more seeds")
    else:
        low, high = judged.interval
        lines.append(
            f"chosen so without each {judged.left_out} in turn and judged on it ({judged.folds} times, {judged.runs} runs): saves "
            f"{per_cent(judged.saved)}, loses {100 * judged.lost:.2f} points (95 % interval {100 * low:.2f} to {100 * high:.2f}), worst {100 * judged.worst:.1f}"
        )  # fmt: skip
    return lines
