"""Steering a run from the map: pause, leave cells out, more repeats, a new level."""

from __future__ import annotations

from typing import TYPE_CHECKING

from textual.widgets import Input

from zinc_kettle.core.checks.steering import parse_levels
from zinc_kettle.core.problem import Problem
from zinc_kettle.core.run.decisions import (
    POLICY_WORDS,
    AddLevel,
    First,
    InTurn,
    More,
    OnFailure,
    Pause,
    Restore,
    Resume,
    Skip,
    StopAfter,
)
from zinc_kettle.core.text import neutralise
from zinc_kettle.tui.chooser import Choice
from zinc_kettle.tui.host import host
from zinc_kettle.tui.station import Station
from zinc_kettle.tui.widgets.map_view import MapView

if TYPE_CHECKING:
    from zinc_kettle.core.results import CellResults

FURTHER = 2
"""Repeats that one key adds to a cell."""


class Steering(Station):
    """The actions of a station that shows a run; it has a map and a line to write in."""

    _noting = False
    """True while the line takes a note."""

    @property
    def _chosen(self) -> CellResults | None:
        results, key = host(self).results, self.query_one(MapView).chosen
        return None if results is None or key is None else results.cell(key)

    def action_pause(self) -> None:
        """Pause, or go on."""
        results = host(self).results
        if results is not None:
            host(self).steer(Resume if results.schedule.paused else Pause, {})

    def action_skip(self) -> None:
        """Leave the chosen cell out, or take it up again."""
        cell = self._chosen
        if cell is not None:
            host(self).steer(Restore if cell.skipped else Skip, cell.cell.levels)

    def action_further(self) -> None:
        """More repeats of the chosen cell."""
        cell = self._chosen
        if cell is not None:
            host(self).steer(More, cell.cell.levels, FURTHER)

    def action_first(self) -> None:
        """Measure the selected cell first, or return to the usual order."""
        cell, results = self._chosen, host(self).results
        if cell is not None and results is not None:
            ahead = cell.cell.key in results.schedule.first
            host(self).steer(InTurn if ahead else First, {} if ahead else cell.cell.levels)

    def action_on_failure(self) -> None:
        """Choose what happens when a cell fails."""
        choices = [Choice(policy, words) for policy, words in POLICY_WORDS.items()]

        def chosen(policy: str) -> None:
            host(self).steer(OnFailure, {}, text=policy)

        self.choose("What is to happen when a cell fails?", choices, chosen)

    def action_end_block(self) -> None:
        """Stop after this block."""
        host(self).steer(StopAfter, {})

    def action_add_level(self) -> None:
        """Ask for a new level."""
        results = host(self).results
        if results is None:
            return
        name, levels = list(results.study.vary.items())[-1]
        self._open_line(f"a new level, such as {name}={levels[-1]}; enter adds it, escape cancels", noting=False)

    def action_note(self) -> None:
        """Write a note on the run."""
        results = host(self).results
        if results is None or not results.run.run_id:
            self.notify("Notes are kept with measured studies. Press r to run this one.")
            return
        self._open_line("a note on this run; enter keeps it, escape cancels", noting=True)

    def _open_line(self, placeholder: str, *, noting: bool) -> None:
        self._noting = noting
        line = self.query_one("#line", Input)
        line.placeholder, line.display = placeholder, True
        line.focus()

    def on_input_submitted(self, event: Input.Submitted) -> None:
        """Take the new level."""
        results, words = host(self).results, event.value.strip()
        self.close_line()
        if results is None or not words:
            return
        if self._noting:
            said = neutralise(words, keep_newlines=False)
            host(self).services.studies.add_note(results.run.run_id, None, said)
            results.add_note(None, said)
            self.redraw()
            return
        levels = parse_levels(results, event.value)
        if isinstance(levels, Problem):
            host(self).refuse(levels)
        else:
            host(self).steer(AddLevel, levels)

    def close_line(self) -> bool:
        """Put the line away; false where it was not there."""
        line = self.query_one("#line", Input)
        shown = bool(line.display)
        line.value = ""
        line.display = False
        self.query_one(MapView).focus()
        return shown
