"""The sheet of one cell: everything that is known of it."""

from __future__ import annotations

from pathlib import Path

from rich.text import Text
from textual.app import ComposeResult
from textual.containers import Horizontal, Vertical, VerticalScroll
from textual.widgets import Digits, Footer, Input, Static

from zinc_kettle.core.catalogue import MEASURES
from zinc_kettle.present.view import STATE_MARKS, CellView
from zinc_kettle.present.words import bound_name, bounds_text, main_measure, value_text
from zinc_kettle.tui.actions import bindings
from zinc_kettle.tui.bridge import host
from zinc_kettle.tui.screens.cell.load_parts import driver, family
from zinc_kettle.tui.screens.cell.parts import cautions, engine, figures, strips
from zinc_kettle.tui.station import Station
from zinc_kettle.tui.widgets.stations import Stations


class CellScreen(Station):
    """Shows one cell of the open study."""

    BINDINGS = bindings("cell")
    CSS_PATH = Path(__file__).parent / "screen.tcss"
    HELP_FILE = Path(__file__).parent / "help.md"

    def __init__(self, index: int) -> None:
        super().__init__()
        self.index = index

    def compose(self) -> ComposeResult:
        """Headline, figures, strips, cautions and engine."""
        yield Stations("Cell")
        with Horizontal(id="head"):
            yield Digits("", id="number")
            yield Static(id="unit")
            yield Static(id="what")
        with Horizontal(id="body"):
            with VerticalScroll(id="figures-column"):
                yield Static(id="figures")
            with VerticalScroll(id="strips-column"):
                yield Static(id="strips")
            with VerticalScroll(id="cautions-column"), Vertical(id="words"):
                yield Static(id="cautions")
                yield Static(id="engine")
        yield Input(placeholder="a note to this cell; enter keeps it, escape leaves it", id="note")
        yield Footer()

    def on_mount(self) -> None:
        """The note line stays away until it is wanted."""
        self.query_one("#note", Input).display = False
        self.call_after_refresh(self.redraw)

    def on_resize(self) -> None:
        """Strips are drawn to the width."""
        self.call_after_refresh(self.redraw)

    @property
    def cell(self) -> CellView | None:
        """The cell shown."""
        view = host(self).view
        return None if view is None else view.cells[self.index % len(view.cells)]

    def redraw(self) -> None:
        """Draw everything."""
        cell, view, p = self.cell, host(self).view, self.palette
        if cell is None or view is None:
            return
        self._headline(cell)
        self.query_one("#figures", Static).update(figures(cell, p))
        room = self.query_one("#strips-column").content_size
        self.query_one("#strips", Static).update(strips(cell, max(30, room.width - 1), room.height, p))
        notes = [text for index, text in view.record.notes if index == cell.cell.index]
        self.query_one("#cautions", Static).update(cautions(cell, notes, p))
        rest = [family(view, cell, p), engine(cell, p), driver(view, cell, p)]
        self.query_one("#engine", Static).update(Text.assemble(*rest))
        self.query_one(Stations).show(p)

    def _headline(self, cell: CellView) -> None:
        p = self.palette
        view = host(self).view
        assert view is not None
        name = main_measure(view.study)
        figure = cell.value(name)
        text, unit = value_text(figure)
        self.query_one("#number", Digits).update(text if text != "–" else "-")
        detail = Text()
        detail.append(f"{unit if text != '–' else ''} {MEASURES[name].title}\n", f"bold {p.ink}")
        detail.append(f"{bounds_text(figure)}\n" if text != "–" else "not measured\n", p.ink)
        detail.append(bound_name(figure), p.muted)
        self.query_one("#unit", Static).update(detail)
        what = Text()
        what.append(cell.title + "\n", f"bold {p.ink}")
        what.append(f"{STATE_MARKS[cell.state]} {cell.state}, {cell.done} of {cell.wanted} repeats\n", p.muted)
        what.append(f"cell {cell.cell.index + 1} of {len(view.cells)} · {view.study.question}", p.muted)
        self.query_one("#what", Static).update(what)

    # actions
    def action_next_cell(self) -> None:
        """The next cell."""
        self._go(1)

    def action_previous_cell(self) -> None:
        """The cell before."""
        self._go(-1)

    def _go(self, step: int) -> None:
        view = host(self).view
        if view is not None:
            self.index = (self.index + step) % len(view.cells)
            self.redraw()

    def action_note(self) -> None:
        """Write a note."""
        view = host(self).view
        if view is None or not view.record.study_id:
            self.notify("Notes are kept with measured studies. Press r on the map to run this one.")
            return
        line = self.query_one("#note", Input)
        line.display = True
        line.focus()

    def on_input_submitted(self, event: Input.Submitted) -> None:
        """Keep the note."""
        view, cell = host(self).view, self.cell
        text = event.value.strip()
        if text and view is not None and cell is not None:
            host(self).desk.add_note(view.record.study_id, cell.cell.index, text)
            view.add_note(cell.cell.index, text)
        self._close_note()
        self.redraw()

    def _close_note(self) -> None:
        line = self.query_one("#note", Input)
        line.value = ""
        line.display = False
        self.set_focus(None)

    def action_back(self) -> None:
        """Leave the note line, or go back to the map."""
        if self.query_one("#note", Input).display:
            self._close_note()
        else:
            self.app.action_map()  # type: ignore[attr-defined]
