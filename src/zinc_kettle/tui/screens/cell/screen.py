"""The sheet of one cell: everything that is known of it."""

from __future__ import annotations

import asyncio

from rich.text import Text
from textual.app import ComposeResult
from textual.containers import Horizontal, Vertical, VerticalScroll
from textual.widgets import Digits, Footer, Input, Static

from zinc_kettle.core.checks.steering import place_of
from zinc_kettle.core.compare.cells import best_beside
from zinc_kettle.core.compare.choice import marked
from zinc_kettle.core.measures import MEASURES
from zinc_kettle.core.results import CellResults, StudyResults
from zinc_kettle.core.text import capitalised, neutralise
from zinc_kettle.errors import KettleError
from zinc_kettle.present.answer import main_measure
from zinc_kettle.present.duel import worked_line
from zinc_kettle.present.values import STATE_MARKS, bound_name, bounds_text, value_text
from zinc_kettle.tui.actions import bindings
from zinc_kettle.tui.chooser import Choice
from zinc_kettle.tui.host import host
from zinc_kettle.tui.screens.cell.provenance import driver, engine
from zinc_kettle.tui.screens.cell.sections import cautions, family, figures, strips
from zinc_kettle.tui.station import Station
from zinc_kettle.tui.theme import Palette
from zinc_kettle.tui.widgets.station_line import Stations


class CellScreen(Station):
    """Shows one cell of the open study."""

    BINDINGS = bindings("cell")

    def __init__(self, key: str) -> None:
        super().__init__()
        self.key = key
        self._caution = ""
        """The caution the line at the bottom answers; empty where it is a note."""
        self._worked: dict[tuple[str, str], str] = {}
        """Of failed cells, by run and key: when they were measured last; empty while that is looked for."""

    def widgets(self) -> ComposeResult:
        """Headline, figures, strips, cautions and engine."""
        yield Stations("cell")
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
        yield Input(placeholder="a note on this cell; enter keeps it, escape cancels", id="note")
        yield Footer()

    def on_mount(self) -> None:
        """The note line stays away until it is wanted."""
        self.query_one("#note", Input).display = False
        self.call_after_refresh(self.redraw)

    def on_resize(self) -> None:
        """Strips are drawn to the width."""
        self.call_after_refresh(self.redraw)

    @property
    def cell(self) -> CellResults | None:
        """The cell shown; none where another study was opened meanwhile."""
        results = host(self).results
        return None if results is None or self.key not in results.study.by_key else results.cell(self.key)

    def draw(self) -> None:
        """Draw everything."""
        cell, results, p = self.cell, host(self).results, self.palette
        if cell is None or results is None:
            return
        self._headline(cell)
        self.query_one("#figures", Static).update(figures(cell, p))
        room = self.query_one("#strips-column").content_size
        self.query_one("#strips", Static).update(strips(results, cell, max(30, room.width - 1), room.height, p))
        notes = [text for key, text in results.run.notes if key == cell.cell.key]
        which = results.run.run_id, cell.cell.key
        worked = self._worked.get(which, "")
        said = cautions(cell, notes, results.acknowledged(cell), p, worked)
        self.query_one("#cautions", Static).update(Text.assemble(self._served(p), said))
        if cell.state == "failed" and which not in self._worked:
            self._worked[which] = ""
            self.work(self._when_it_worked(results, cell), group="worked", exclusive=False)
        rest = [family(results, cell, p), engine(results, cell, p), driver(results, cell, p)]
        self.query_one("#engine", Static).update(Text.assemble(*rest))
        self.query_one(Stations).show(p)

    async def _when_it_worked(self, results: StudyResults, cell: CellResults) -> None:
        """Look through earlier runs for one in which a failed cell was measured."""
        found = await asyncio.to_thread(host(self).services.comparisons.last_worked, results, cell)
        if found is not None and self.stands:
            self._worked[results.run.run_id, cell.cell.key] = worked_line(found)
            self.redraw()

    def _served(self, palette: Palette) -> Text:
        """What serves now, whichever cell it is of."""
        served = host(self).services.serving.served
        if served is None:
            return Text()
        out = Text("serving other programs\n", palette.muted)
        out.append("".join(f"{line}\n" for line in served.lines), palette.ink)
        return out.append("s ends it\n\n", palette.muted)

    def _headline(self, cell: CellResults) -> None:
        p = self.palette
        results = host(self).results
        assert results is not None
        name = main_measure(results.study)
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
        what.append(f"cell {cell.cell.index + 1} of {len(results.cells)} · {results.study.question}", p.muted)
        self.query_one("#what", Static).update(what)

    # actions
    def figure(self) -> tuple[str, CellResults | None] | None:
        """The measure in large digits; the others are explained in the palette, by their names."""
        return host(self).measure, self.cell

    def clipboard_text(self) -> str:
        """All figures, what is to be said of them, and the engine."""
        return self.panel_text("what", "figures", "cautions", "engine")

    def action_next_cell(self) -> None:
        """The next cell."""
        self._go(1)

    def action_previous_cell(self) -> None:
        """The cell before."""
        self._go(-1)

    def _go(self, step: int) -> None:
        results, cell = host(self).results, self.cell
        if results is not None and cell is not None:
            self.key = results.cells[(cell.cell.index + step) % len(results.cells)].cell.key
            self.redraw()

    def action_remedy(self) -> None:
        """What would make a cell load that failed or will not fit: choose a change, and plan it."""
        cell = self.cell
        if cell is None:
            return
        why, found = host(self).services.studies.remedies(cell.cell)
        if not found:
            words = (
                f"{why}, and no single change makes it fit." if why else "Fit sees no reason why it should not load."
            )
            self.notify(f"{capitalised(words)} The engine's last words stand on the right.")
            return
        choices = [Choice(str(i), remedy.what, remedy.cost) for i, remedy in enumerate(found)]

        def chosen(key: str) -> None:
            host(self).plan_change(cell.cell, {str(role): level for role, level in found[int(key)].changes.items()})

        self.choose(f"{capitalised(why)}. What is to change?", choices, chosen)

    def action_serve(self) -> None:
        """Start its engine for other programs; where one serves, end it."""
        app, cell = host(self), self.cell
        if app.services.serving.served is not None:
            self.work(self._end_serving(), group="serve")
        elif app.results is not None and cell is not None:
            if app.run_state is not None and app.run_state.active:
                self.notify("A study is being measured; an engine beside it would disturb it.", severity="warning")
                return
            self.notify(f"Starting {cell.title} …")
            self.work(self._serve(app.results, cell), group="serve")

    async def _serve(self, results: StudyResults, cell: CellResults) -> None:
        try:
            served = await host(self).services.serving.start(results, cell)
        except KettleError as error:
            self.notify(str(error), title="It does not serve", severity="error", timeout=20)
            return
        host(self).copy("\n".join(served.lines))
        self.redraw()

    async def _end_serving(self) -> None:
        await host(self).services.serving.end()
        self.notify("The engine that served has ended.")
        self.redraw()

    def action_answers(self) -> None:
        """Read its answers beside those of other cells."""
        results = host(self).results
        if results is not None:
            others = [c.cell.key for c in results.cells if c.done and c.cell.key != self.key]
            host(self).open_answers([self.key, *others])

    def action_note(self) -> None:
        """Write a note."""
        results = host(self).results
        if results is None or not results.run.run_id:
            self.notify("Notes are kept with measured studies. Press r on the map to run this one.")
            return
        self._ask("", "a note on this cell; enter keeps it, escape cancels")

    def action_acknowledge(self) -> None:
        """Write why a caution is no worry: the first that is not acknowledged yet."""
        results, cell = host(self).results, self.cell
        if results is None or cell is None or not results.run.run_id:
            return
        answers = results.acknowledged(cell)
        code = next((c.code for c in cell.cautions if c.code not in answers), "")
        if code:
            self._ask(code, f"why {code} is no worry here; enter keeps it, escape cancels")
        else:
            self.notify("No caution of this cell is left to acknowledge.")

    def _ask(self, caution: str, placeholder: str) -> None:
        self._caution = caution
        line = self.query_one("#note", Input)
        line.placeholder, line.display = placeholder, True
        line.focus()

    def on_input_submitted(self, event: Input.Submitted) -> None:
        """Keep the note."""
        results, cell = host(self).results, self.cell
        text = neutralise(event.value.strip(), keep_newlines=False)
        if text and results is not None and cell is not None:
            run, services = results.run.run_id, host(self).services
            if self._caution:
                results.add_decision(services.studies.acknowledge(run, cell.cell.levels, self._caution, text))
            else:
                services.studies.add_note(run, cell.cell.key, text)
                results.add_note(cell.cell.key, text)
        self._close_note()
        self.redraw()

    def _close_note(self) -> None:
        line = self.query_one("#note", Input)
        line.value = ""
        line.display = False
        self.set_focus(None)

    def action_compare(self) -> None:
        """Hold this cell against the best one."""
        results = host(self).results
        if results is None or not results.run.run_id:
            return
        mine = results.cell(self.key)
        best = best_beside(results, marked(results, host(self).measure), mine)
        host(self).open_duel([place_of(results, c.cell.levels) for c in (best, mine)])

    def action_back(self) -> None:
        """Leave the note line, or go back where one came from."""
        if self.query_one("#note", Input).display:
            self._close_note()
        else:
            self.app.pop_screen()
