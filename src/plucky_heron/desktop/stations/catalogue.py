"""The stations in the order of the work: the one list of them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from importlib import import_module

from plucky_heron.desktop.bench.workbench import Workbench
from plucky_heron.desktop.stations.base import Station
from plucky_heron.desktop.stations.compare import model as compare
from plucky_heron.desktop.stations.handover import model as handover
from plucky_heron.desktop.stations.machine import model as machine
from plucky_heron.desktop.stations.proving import model as proving
from plucky_heron.desktop.stations.shakedown import model as shakedown
from plucky_heron.desktop.stations.stake import StakeState
from plucky_heron.desktop.stations.task import model as task
from plucky_heron.desktop.stations.training import model as training


@dataclass(frozen=True)
class Entry:
    """A station: its name, what its stake shows, and where its class stands, which is loaded when it is first entered."""

    name: str
    stake: Callable[[Workbench], StakeState]
    needs: tuple[str, ...] = ()
    """Modules without a screen that take long to load: `fetch` may run in a thread, so that the window goes on meanwhile."""

    def fetch(self) -> None:
        """Load what the station needs."""
        for module in self.needs:
            import_module(f"plucky_heron.{module}")

    def make(self, bench: Workbench) -> Station:
        """The station's widget."""
        module = import_module(f"plucky_heron.desktop.stations.{self.name.lower()}.station")
        made: Station = getattr(module, f"{self.name}Station")(bench)
        return made


STATIONS = (
    Entry("Machine", machine.stake),
    Entry("Task", task.stake),
    Entry("Shakedown", shakedown.stake),
    Entry("Training", training.stake),
    Entry("Compare", compare.stake),
    Entry("Proving", proving.stake, ("analysis.proving.proof",)),
    Entry("Handover", handover.stake, ("handover.pack", "rigs.rollout", "rigs.fleet.coordinator")),
)
