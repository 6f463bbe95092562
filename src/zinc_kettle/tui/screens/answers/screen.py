"""Answers of several cells to the same request, side by side, to be read and marked."""

from __future__ import annotations

from collections.abc import Sequence

from rich.text import Text
from textual.app import ComposeResult
from textual.containers import Horizontal, VerticalScroll
from textual.widgets import Footer, Input, Static

from zinc_kettle.core.remarks import Answer, answers_of, scripts_of
from zinc_kettle.core.results import CellResults
from zinc_kettle.core.text import neutralise
from zinc_kettle.core.units import digits, with_unit
from zinc_kettle.present.values import CAUTION_MARK
from zinc_kettle.tui.actions import bindings
from zinc_kettle.tui.host import host
from zinc_kettle.tui.station import Station
from zinc_kettle.tui.theme import Palette
from zinc_kettle.tui.widgets.station_line import Stations

WIDE_COLUMNS, NARROW_COLUMNS = 3, 2
NS = 1e9


class AnswersScreen(Station):
    """Reads answers; `keys` are the cells, in the order they are shown."""

    BINDINGS = bindings("answers")
    AUTO_FOCUS = ""

    def __init__(self, keys: Sequence[str] = ()) -> None:
        super().__init__()
        self._keys = list(keys)
        self._first = 0
        self._request = 0
        self._here = 0
        """The selected column."""

    def widgets(self) -> ComposeResult:
        """Title, a column for each answer, a line for notes."""
        yield Stations("answers")
        yield Static(id="title")
        with Horizontal(id="columns"):
            for place in range(WIDE_COLUMNS):
                with VerticalScroll(classes="answer", id=f"answer-{place}", can_focus=False):
                    yield Static(classes="words", id=f"words-{place}")
        yield Input(placeholder="a note on this answer; enter keeps it, escape cancels", id="note")
        yield Footer()

    def on_mount(self) -> None:
        """Draw once the width is known."""
        self.query_one("#note", Input).display = False
        self.call_after_refresh(self.redraw)

    def on_resize(self) -> None:
        """Fewer columns in a narrow terminal."""
        self.call_after_refresh(self.redraw)

    @property
    def _columns(self) -> list[CellResults]:
        results = host(self).results
        if results is None or not self._keys:
            return []
        count = min(WIDE_COLUMNS if self.size.width >= 124 else NARROW_COLUMNS, len(self._keys))
        chosen = [self._keys[(self._first + i) % len(self._keys)] for i in range(count)]
        return [results.cell(key) for key in chosen if key in results.study.by_key]

    def _answers(self, cell: CellResults) -> list[Answer]:
        """All measured answers of a cell, block by block."""
        results = host(self).results
        assert results is not None
        scripts = scripts_of(results.study)
        found: list[Answer] = []
        for repeat in sorted(cell.repeats, key=lambda r: r.block):
            found += answers_of(results.study, results.run.decisions, repeat.timelines, scripts)
        return found

    @property
    def _most(self) -> int:
        return max((len(self._answers(cell)) for cell in self._columns), default=0)

    def draw(self) -> None:
        """Draw everything."""
        results, p = host(self).results, self.palette
        self.query_one(Stations).show(p)
        if results is None:
            return
        columns, most = self._columns, self._most
        self._request = min(self._request, max(0, most - 1))
        title = Text("What did they write?", f"bold {p.ink}")
        title.append(f"   request {self._request + 1} of {most}", p.muted)
        if len(self._keys) > len(columns):
            title.append(f" · {len(columns)} of {len(self._keys)} cells, x shows others", p.muted)
        self.query_one("#title", Static).update(title)
        for place in range(WIDE_COLUMNS):
            panel = self.query_one(f"#answer-{place}")
            panel.display = place < len(columns)
            panel.set_class(place == self._here, "here")
            if place < len(columns):
                answers = self._answers(columns[place])
                there = answers[self._request] if self._request < len(answers) else None
                notes = [text for key, text in results.run.notes if key == columns[place].cell.key]
                self.query_one(f"#words-{place}", Static).update(answer_text(columns[place], there, notes, p))

    # actions
    def clipboard_text(self) -> str:
        """The answers that are shown."""
        return self.panel_text("title", *(f"words-{place}" for place in range(len(self._columns))))

    def action_next_answer(self) -> None:
        """The next request."""
        self._request = min(self._request + 1, max(0, self._most - 1))
        self.redraw()

    def action_previous_answer(self) -> None:
        """The request before."""
        self._request = max(0, self._request - 1)
        self.redraw()

    def action_next_column(self) -> None:
        """The next answer."""
        self._here = (self._here + 1) % max(1, len(self._columns))
        self.redraw()

    def action_more_cells(self) -> None:
        """Other cells beside the first."""
        if self._keys:
            self._first = (self._first + len(self._columns)) % len(self._keys)
            self.redraw()

    def _chosen(self) -> tuple[CellResults, Answer] | None:
        columns = self._columns
        if self._here >= len(columns):
            return None
        answers = self._answers(columns[self._here])
        return (columns[self._here], answers[self._request]) if self._request < len(answers) else None

    def action_mark(self, mark: str) -> None:
        """Mark the selected answer, or take the mark back."""
        chosen, results = self._chosen(), host(self).results
        if chosen is None or results is None:
            return
        cell, answer = chosen
        results.add_decision(
            host(self).services.studies.mark(results.run.run_id, cell.cell.levels, answer.request_id, mark)
        )
        self.redraw()

    def action_note(self) -> None:
        """Open the line for a note."""
        line = self.query_one("#note", Input)
        line.display = True
        self.set_focus(line)

    def on_input_submitted(self, event: Input.Submitted) -> None:
        """Keep the note with its cell, and say of which answer it is."""
        chosen, results = self._chosen(), host(self).results
        said = neutralise(event.value.strip(), keep_newlines=False)
        if said and chosen is not None and results is not None:
            text = f"request {self._request + 1}: {said}"
            host(self).services.studies.add_note(results.run.run_id, chosen[0].cell.key, text)
            results.add_note(chosen[0].cell.key, text)
        self._close_note()
        self.redraw()

    def _close_note(self) -> None:
        line = self.query_one("#note", Input)
        self.set_focus(None)
        line.value, line.display = "", False

    def action_back(self) -> None:
        """Leave the line, or go back."""
        if self.query_one("#note", Input).display:
            self._close_note()
        else:
            self.app.pop_screen()


def answer_text(cell: CellResults, answer: Answer | None, notes: Sequence[str], palette: Palette) -> Text:
    """One answer: its cell, its figures, what is said of it, and its text.

    Args:
        cell: The cell.
        answer: Its answer; None where it has none to this request.
        notes: Of the cell.
        palette: The theme's colours.
    """
    out = Text()
    out.append(f"{cell.title}\n", f"bold {palette.ink}")
    if answer is None:
        return out.append("no answer to this request", palette.muted)
    t = answer.timeline
    said = [f"{t.total_tokens:,} tokens"]
    if t.ttft_ns is not None:
        said.append(f"first after {with_unit(t.ttft_ns / NS, 's')}")
    if t.decode_rate is not None:
        said.append(f"{digits(t.decode_rate)} tok/s")
    out.append(" · ".join(said) + "\n", palette.ink)
    out.append(f"ended: {t.finish or ('not told' if t.usable else t.error or 'broken off')}\n", palette.muted)
    for found in answer.found:
        out.append(f"{CAUTION_MARK} ", palette.caution)
        out.append(f"{found}\n", palette.ink)
    if answer.marks:
        out.append(f"marked {', '.join(answer.marks)}\n", f"bold {palette.copper}")
    for note in notes:
        out.append(f"note: {note}\n", palette.muted)
    return out.append(f"\n{neutralise(answer.text).strip() or 'no text'}\n", palette.ink)
