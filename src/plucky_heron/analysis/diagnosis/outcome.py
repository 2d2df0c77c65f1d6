"""Findings on what came of a run: what the task pays for, whether it was enough, whether it stayed."""

from __future__ import annotations

import numpy as np

from plucky_heron.analysis.diagnosis.finding import LATE, Check, Finding, Severity, Try, best_success, number, share
from plucky_heron.analysis.diagnosis.record import Record
from plucky_heron.learning.health import LOST, UNSOLVED
from plucky_heron.training.looking_back import NOTHING, still_rising
from plucky_heron.training.stopping import show_steps

FEWEST = 8
"""Evaluations before which little can be told."""
DOMINATES = 0.85
LOST_AGAIN = 0.25
NOISE, FEW_EPISODES = 0.08, 40
FLATTERS = 0.15
"""Success on evaluation starts over that on fresh ones from which evaluations flatter."""
CUT = 0.95
AT_TIME = "time is up"


def _late(record: Record, values: np.ndarray) -> np.ndarray:
    return values[int(LATE * len(values)) :]


def _rise(record: Record) -> float:
    """By how much the score rose over the run, in halves of what lay between mean and worst episode of the first evaluation."""
    scores, worst = record.of("score"), record.of("worst")
    if len(scores) < 4:
        return 0.0
    first = float(scores[0])
    width = 0.5 * (first - float(worst[0])) if np.isfinite(worst[0]) else 0.1 * float(np.ptp(scores))
    return (float(np.mean(_late(record, scores))) - first) / max(width, 0.02 * abs(first), 1e-9)


def _risen_term(record: Record) -> str:
    """The reward term that rose most from the first evaluation to the last, in words."""
    if len(record.details) < 2 or "terms" not in record.details[0]:
        return ""
    change = np.array(record.details[-1]["terms"]) - np.array(record.details[0]["terms"])
    if len(change) != len(record.task.terms) or not np.isfinite(change).all():
        return ""
    most = int(np.argmax(change))
    return f"{record.task.terms[most]} rose by {change[most]:.3g}"


def reward_against_measure(record: Record) -> Finding | None:
    """A driver that meets the measure is paid less than a policy that does not."""
    if len(record.course) < 4 or not record.references:
        return None
    late = float(np.mean(_late(record, record.of("score"))))
    reached = float(np.mean(_late(record, record.of("success"))))
    name, best = max(record.references.items(), key=lambda item: (item[1]["success"], item[1]["score"]))
    if best["success"] < reached + 0.3 or best["score"] >= late - 0.02 * abs(late):
        return None
    better = {name: best}
    term = _risen_term(record)
    evidence = (
        f"{name} meets the measure in {share(better[name]['success'])} and scores {better[name]['score']:.3g}; this policy in {share(reached)}, and scores {late:.3g}"
        + (f"; in training {term}" if term else "")
    )
    tries = (
        Try(
            f"look at the sign and weight of {term.partition(' rose')[0]} in the Task station"
            if term
            else "look at signs and weights in the Task station"
        ),
        Try("rehearse: what scores best there must be what is wanted"),
    )
    return Finding(
        "reward against the measure",
        "trouble",
        "The reward pays more for failing than for what the measure asks",
        evidence,
        "score",
        tries,
        better[name]["success"] - reached,
    )


def pays_for_something_else(record: Record) -> Finding | None:
    """The score rises, and the measure does not follow."""
    if len(record.course) < FEWEST or best_success(record) >= NOTHING or _rise(record) < 1.0:
        return None
    scores = record.of("score")
    late = float(np.mean(_late(record, scores)))
    on_the_way = any(f["success"] >= 0.5 and f["score"] > late for f in record.references.values())
    if on_the_way or still_rising(record.course):  # what meets the measure is paid more: it may yet come there
        return None
    term = _risen_term(record)
    evidence = (
        f"the score rose from {scores[0]:.3g} to {np.mean(_late(record, scores)):.3g}, success stayed at {share(best_success(record))}"
        + (f"; {term}" if term else "")
    )
    done = record.steps >= 0.8 * record.recipe.schedule
    severity: Severity = "trouble" if done else "doubt"
    tries = (Try("watch the policy: what does it do that pays?"), Try("see in the Task station which term carries it"))
    return Finding(
        "reward rises while the measure does not",
        severity,
        "The task pays for something else than its measure",
        evidence,
        "score",
        tries,
        _rise(record),
    )


def one_term_dominates(record: Record) -> Finding | None:
    """One reward term is nearly all of the reward, and it is not enough."""
    if len(record.course) < 4 or best_success(record) >= 0.5 or len(record.task.terms) < 2:
        return None
    terms = np.array([d["terms"] for d in record.details if len(d.get("terms", ())) == len(record.task.terms)])
    if len(terms) < 2 or not np.isfinite(terms).all():
        return None
    size = np.abs(terms[1:]).mean(axis=0)
    if size.sum() <= 0.0:
        return None
    shares = size / size.sum()
    most = int(np.argmax(shares))
    if shares[most] < DOMINATES:
        return None
    name = record.task.terms[most]
    evidence = f"{name} makes {share(shares[most])} of what the terms come to; the next is {record.task.terms[int(np.argsort(shares)[-2])]} with {share(np.sort(shares)[-2])}"
    return Finding(
        "one reward term dominates",
        "doubt",
        "One reward term drowns the others",
        evidence,
        "terms",
        (Try(f"a smaller weight of {name} in the Task station"),),
        shares[most],
    )


def every_episode_cut(record: Record) -> Finding | None:
    """Nothing ends but by the time limit, and nothing succeeds."""
    if len(record.course) < 4 or best_success(record) >= NOTHING or _rise(record) >= 1.0:
        return None
    late = [d.get("endings", {}) for d in record.details[int(LATE * len(record.details)) :]]
    total = sum(sum(e.values()) for e in late)
    cut = sum(e.get(AT_TIME, 0) for e in late)
    if not total or cut < CUT * total:
        return None
    seconds = record.task.time_limit * record.task.sample_time
    evidence = f"{share(cut / total)} of the evaluation episodes end at {seconds:g} s, none with success"
    tries = (
        Try("easier starts first: a narrower range in the Task station"),
        Try("a longer time limit, if none could make it"),
        Try(
            "explore more",
            {"exploration_memory": number(record.fitted["exploration_memory"])}
            if "exploration_memory" in record.fitted
            else {},
        ),
    )
    return Finding(
        "every episode cut by time",
        "doubt",
        "Every episode runs into the time limit",
        evidence,
        "endings",
        tries,
        cut / total,
    )


def success_lost(record: Record) -> Finding | None:
    """Success was there, and went."""
    success = record.of("success")
    if len(success) < FEWEST:
        return None
    last = float(np.mean(success[-max(2, len(success) // 10) :]))
    best, at = float(success.max()), int(success.argmax())
    noise = 2.0 * np.sqrt(max(best * (1 - best), 0.02) / record.recipe.evaluation.episodes)
    if best < 0.3 or best - last < max(LOST_AGAIN, noise):
        return None
    evidence = (
        f"{share(best)} at {show_steps(record.course[at].step)} steps, {share(last)} at the end; the best is kept"
    )
    tries = [
        Try(
            "a learning rate that falls",
            {"schedule": "linear", "learning_rate_share_end": "0.1"}
            if record.setting("schedule") is not None
            else {"learning_rate_share_end": "0.1"},
        )
    ]
    if record.setting("kl_limit") is None and record.setting("passes") is not None:
        tries.append(Try("a limit on the policy's change", {"kl_limit": "0.03"}))
    if record.setting("learning_rate") is not None:
        tries.append(
            Try("a third of the learning rate", {"learning_rate": number(record.setting("learning_rate") / 3)})
        )
    tries.append(Try("a stop rule of gone wrong, or good enough, in front of the fall"))
    return Finding(
        "success seen but lost",
        "trouble" if last < 0.5 * best else "doubt",
        "Success was reached and lost again",
        evidence,
        "success",
        tuple(tries),
        best - last,
    )


def evaluation_noise(record: Record) -> Finding | None:
    """Evaluations are too small: what they show does not hold on fresh starts, or jumps more than they tell."""
    episodes, success, fresh = record.recipe.evaluation.episodes, record.of("success"), record.retest.get("success")
    text = "Evaluations are too small to tell what they show"
    best = best_success(record)
    if fresh is not None and best - float(fresh) > max(FLATTERS, 2.0 * np.sqrt(0.25 / episodes)):
        more = int(min(400, max(64, 4 * episodes)))
        evidence = f"{share(best)} on {episodes} evaluation episodes, {share(float(fresh))} on {record.retest.get('episodes', 200)} fresh starts"
        tries = (Try(f"{more} evaluation episodes", {"evaluation.episodes": str(more)}),)
        return Finding("evaluation noise", "note", text, evidence, "success", tries, best - float(fresh))
    if len(success) < 2 * FEWEST or episodes > FEW_EPISODES:
        return None
    late = success[len(success) // 2 :]
    jumps = float(np.std(np.diff(late, 2)) / np.sqrt(6.0))
    if jumps < NOISE:
        return None
    more = int(min(400, max(64, episodes * (jumps / 0.03) ** 2)))
    evidence = f"success jumps by {share(jumps)} from evaluation to evaluation; {episodes} episodes tell {share(1.0 / episodes)} apart at best"
    tries = (Try(f"{more} evaluation episodes", {"evaluation.episodes": str(more)}),)
    return Finding("evaluation noise", "note", text, evidence, "success", tries, jumps)


def still_improving(record: Record) -> Finding | None:
    """It ended while it rose."""
    rising = still_rising(record.course)
    if not record.ended or record.stop_rule not in ("budget", "by hand") or not rising:
        return None
    more = 2 * record.steps
    return Finding(
        "still improving at the end",
        "note",
        "It was still improving when it ended",
        rising,
        "success",
        (
            Try(f"go on to {show_steps(more)} steps: the run keeps all it has"),
            Try("a longer budget", {"steps": str(more)}),
        ),
        1.0,
    )


def too_early(record: Record) -> Finding | None:
    """Too little is on record."""
    evaluations = len(record.course) - 1
    if evaluations >= FEWEST or (record.ended and best_success(record) >= 0.9):
        return None
    done = record.steps / max(1, record.recipe.schedule)
    evidence = f"{max(evaluations, 0)} evaluations after the first, {share(done)} of the budget"
    tries = (
        ()
        if not record.ended
        else (Try("evaluate more often", {"evaluation.every": str(max(1, record.recipe.schedule // 25))}),)
    )
    return Finding("too early to say", "note", "It is too early to say much", evidence, "success", tries, 1.0 - done)


def not_finite(record: Record) -> Finding | None:
    """An evaluation gave no number: parameters or physics ran away."""
    wrong = [e for e in record.course if not e.finite or not np.isfinite(e.score)]
    if not wrong:
        return None
    tries = (
        [
            Try(
                "a kept policy of before is there: start from it, with a third of the learning rate",
                {"learning_rate": number(record.setting("learning_rate") / 3)},
            )
        ]
        if record.setting("learning_rate")
        else []
    )
    return Finding(
        "not finite",
        "trouble",
        "The run is not finite any more",
        f"at {show_steps(wrong[0].step)} steps an evaluation gave no number",
        "score",
        tuple(tries),
        1.0,
    )


def simulations_lost(record: Record) -> Finding | None:
    """The physics blew up on the way."""
    lost = float(record.figure("lost").sum())
    if lost <= 0.0:
        return None
    evidence = (
        f"{lost:.0f} {LOST.words} on average of the updates shown"
        if lost < 1
        else f"{lost:.0f} simulations were not finite; their steps were dropped"
    )
    return Finding(
        "simulations lost",
        "doubt",
        "Some simulations were not finite",
        evidence,
        "lost",
        (Try("more substeps in the Task station"),),
        lost,
    )


def contacts_not_solved(record: Record) -> Finding | None:
    """Contacts are not solved to what the physics promises."""
    found = record.figure("unsolved")
    if not len(found) or float(np.mean(found)) <= (UNSOLVED.high or 0.01):
        return None
    return Finding(
        "contacts not solved",
        "doubt",
        "Contacts are not solved in every step: a policy may come to live on that",
        f"{share(float(np.mean(found)))} of the physics steps",
        "unsolved",
        (Try("more substeps in the Task station"),),
        float(np.mean(found)),
    )


def other_driver_better(record: Record) -> Finding | None:
    """A driver that needs no training does better."""
    if not record.ended or len(record.course) < 4:
        return None
    best = best_success(record)
    ours = float(record.retest.get("success", best))
    better = {
        n: f
        for n, f in record.references.items()
        if f["success"] >= ours + 0.1 and n not in ("nobody", "constant", "random")
    }
    if not better:
        return None
    name = max(better, key=lambda n: better[n]["success"])
    evidence = f"{name} succeeds in {share(better[name]['success'])}, the kept policy in {share(ours)}"
    tries = (
        (Try("learn a correction of it", {"residual": name.removeprefix("rule ")}),)
        if record.recipe.residual is None
        else ()
    )
    return Finding(
        "another driver does better",
        "note",
        f"The {name} does better than what was learned"
        if name == "regulator"
        else f"{name} does better than what was learned",
        evidence,
        "success",
        tries,
        better[name]["success"] - ours,
    )


CHECKS: tuple[Check, ...] = (
    not_finite, reward_against_measure, pays_for_something_else, one_term_dominates, every_episode_cut, success_lost, evaluation_noise, still_improving, too_early,
    simulations_lost, contacts_not_solved, other_driver_better,
)  # fmt: skip
