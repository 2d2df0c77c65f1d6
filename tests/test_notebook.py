"""A project in a notebook: the commands as methods, results that read well."""

from __future__ import annotations

import copy
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path
from typing import Any

import pytest

import plucky_heron as ph
from plucky_heron.analysis import result_table
from plucky_heron.analysis.result_table import table_of
from plucky_heron.analysis.shakedown import rehearsals, reward_checks
from plucky_heron.errors import FileError, FormulaError, HeronError, StateError
from tests.analysis.test_facts_of_steps import MASS, TASK
from tests.control.test_regulator_laws import project


def test_the_commands_are_methods_and_their_results_read_well(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A task of its own from shakedown to rollout, without a recipe."""
    monkeypatch.setattr(rehearsals, "REHEARSALS", 8)
    monkeypatch.setattr(reward_checks, "_LOOP_COPY_STEPS", 1)
    project(tmp_path, MASS.format(stiffness=1.0, damping=0.4), TASK.format(ending="", push="0"))
    opened = ph.open(tmp_path)
    checked = opened.shakedown("t")
    assert repr(checked).startswith("shakedown: ") and "speed" in checked.table().column("check")
    assert "looks" in repr(opened.fits("t")) and "discount" in opened.fits("t", "sac").column("setting")
    row = opened.train("t", steps=4000)
    assert row.recipe == "standard" and row.method == "ppo"
    curve = opened.curve(row.id)
    assert curve.column("step")[0] == 0 and len(curve) >= 2 and "success %" in repr(curve).splitlines()[1]
    assert isinstance(opened.looking_back(row.id), list)
    proof = opened.prove(row.id, trials=8)
    assert proof.table().column("driver")[0] == "policy" and "proof on 8 fresh trials" in repr(proof)
    assert proof._repr_html_().count("<tr>") == 1 + len(proof.trials)
    assert opened.handover(row.id, tmp_path / "packs" / "t")["equality"]
    result = opened.rollout(tmp_path / "packs" / "t", episodes=1)
    assert result.summary()["missed"] == 0


def test_a_table_is_text_html_and_a_frame_where_pandas_is(monkeypatch: pytest.MonkeyPatch) -> None:
    table = table_of("runs & <more>", ("name", "success %", "score"), [("a<b", 0.955, 12.34567), ("c", None, -1)])
    assert repr(table).splitlines() == [
        "runs & <more>",
        "name  success %  score",
        "a<b   95.5       12.35",
        "c                -1",
    ]
    html = table._repr_html_()
    assert "runs &amp; &lt;more&gt;" in html and "a&lt;b" in html and "<td>95.5</td>" in html
    assert table.column("score") == [12.34567, -1]
    with pytest.raises(StateError, match="name, success"):
        table.column("speed")

    def without(name: str) -> Any:
        raise ImportError(name)

    monkeypatch.setattr(result_table, "import_module", without)
    with pytest.raises(StateError, match="pip install pandas"):
        table.to_frame()


def test_an_empty_table_has_its_head() -> None:
    assert repr(table_of("none", ("a", "b"), [])).splitlines() == ["none", "a  b"]


@pytest.mark.parametrize(
    "error", [FileError("tasks/t.toml", "timing.control_rate", "fast", "write for example 50 Hz"), FormulaError("x +", 4, "cannot be read here"), StateError("no")]
)  # fmt: skip
def test_an_error_reaches_whoever_started_a_process_pool(error: HeronError) -> None:
    """As pools of processes send it: the same line and the same facts."""
    sent = copy.copy(error)  # by the same protocol as the pool
    assert type(sent) is type(error) and str(sent) == str(error) and sent.facts() == error.facts()
    with ProcessPoolExecutor(1) as pool, pytest.raises(type(error)) as caught:
        pool.submit(fail_with, error).result()
    assert str(caught.value) == str(error)


def fail_with(error: HeronError) -> None:
    """Raised in another process."""
    raise error


def test_an_episode_is_gone_through_by_hand_and_kept(folder: Path) -> None:
    assert dir(ph) == ["__version__", "new", "open"]
    opened = ph.open(folder)
    hand = opened.rehearse("lift", seed=3)
    first = hand.samples[0]
    again = opened.rehearse("lift", seed=3).samples[0]
    assert (
        first == again
        and first.time == 0.0
        and first.observations["offset"] != opened.rehearse("lift", seed=4).samples[0].observations["offset"]
    )
    sample = hand.advance(push="200 N")
    assert sample.commands == {"push": 200.0, "reel": 0.0} and sample.time == pytest.approx(0.02)
    assert sum(sample.terms.values()) == pytest.approx(sample.reward) and not hand.over
    assert hand.advance({"push": 1e9}).commands["push"] == 500.0, "within the limits"
    with pytest.raises(StateError, match="did you mean push"):
        hand.advance(pusch=1)
    with pytest.raises(HeronError, match="kg"):
        hand.advance(push="3 kg")
    kept = hand.keep("mine")
    assert kept.read_text().splitlines()[0] == "push,reel" and len(kept.read_text().splitlines()) == 3
    while not hand.over:
        hand.advance(push=500)
    assert "ended" in repr(hand) and len(hand.table()) == len(hand.samples)
    with pytest.raises(StateError, match="begin another one"):
        hand.advance()
    assert hand.begin(1).observations != first.observations
    with pytest.raises(StateError, match="nothing was commanded"):
        hand.keep()
    hand.advance(push=1)
    with pytest.raises(StateError, match="is no name"):
        hand.keep("../../out")
