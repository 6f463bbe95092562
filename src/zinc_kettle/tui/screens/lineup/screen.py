"""From best to worst, money and watts included."""

from __future__ import annotations

import asyncio
import contextlib
from dataclasses import dataclass, field
from pathlib import Path

from rich.text import Text
from textual.app import ComposeResult
from textual.containers import Horizontal, Vertical, VerticalScroll
from textual.widgets import Footer, Input, OptionList, Static

from zinc_kettle.core.chart import Chart, Panel, Ranges
from zinc_kettle.core.checks.steering import place_of
from zinc_kettle.core.compare.lineup import PERS, Left, Lineup, Needed, Per, Place, lineup
from zinc_kettle.core.compare.reported import Reported
from zinc_kettle.core.compare.speed_index import Index, index
from zinc_kettle.core.measures import MEASURES
from zinc_kettle.core.preferences import Pace
from zinc_kettle.core.results import CellResults, StudyResults
from zinc_kettle.core.text import capitalised
from zinc_kettle.errors import KettleError, UsageError
from zinc_kettle.present.charts.lineup import index_chart, lineup_chart
from zinc_kettle.present.lineup import (
    REPORTED,
    Appearance,
    index_rows,
    lineup_rows,
    money_line,
    ranks_of,
    standing_lines,
    verdict,
    what_lines,
)
from zinc_kettle.tui.actions import binding_for, bindings
from zinc_kettle.tui.choices import ChoiceRow, Choices
from zinc_kettle.tui.chooser import Choice
from zinc_kettle.tui.draw.chart import draw_panel
from zinc_kettle.tui.host import host
from zinc_kettle.tui.recomputed import Recomputed
from zinc_kettle.tui.widgets.station_line import Stations

PLACEHOLDERS: dict[Needed, str] = {
    "price": "the price of {name}, such as 1400",
    "load_w": "what {name} takes while it works, such as 65 W",
    "energy_per_kwh": "what a kilowatt-hour costs, such as 0.32",
}


@dataclass(frozen=True)
class Shown:
    """What the station shows."""

    found: Lineup | None = None
    pace: Pace = field(default_factory=Pace)
    by: str = ""
    runs: tuple[StudyResults, ...] = ()
    index: tuple[Index, ...] = ()
    others: tuple[Reported, ...] = ()


class Rows(Choices):
    """The list of places."""

    MARKED = True
    BINDINGS = [binding_for("lineup", "open_map", "screen.open_map")]  # noqa: RUF012


class LineupScreen(Recomputed[Shown]):
    """Ranks the levels of a factor."""

    BINDINGS = bindings("lineup")
    AUTO_FOCUS = "#rows"

    def __init__(self) -> None:
        super().__init__()
        self._by = ""
        self._per: Per = ""
        self._reference = ""
        self._seen: dict[str, tuple[Appearance, ...]] = {}
        self._more: tuple[str, ...] = ()
        """Further studies beside the open one, by name."""
        self._others: Path | None = None
        """Somebody else's figures, shown below."""

    def widgets(self) -> ComposeResult:
        """The verdict, the places, and all about the one that is chosen."""
        yield Stations("lineup")
        yield Static(id="question")
        yield Static(id="verdict")
        yield Static(id="measure")
        yield Input(id="line")
        with Vertical(id="body"):
            yield Rows(id="rows")
            yield Static(id="axis")
            with VerticalScroll(id="page", can_focus=False), Horizontal(id="columns"):
                yield Static(id="standing")
                yield Static(id="what")
        yield Footer()

    def compute(self) -> Shown:
        """Who is ranked, and how."""
        app = host(self)
        if app.results is None:
            return Shown()
        runs = (app.results, *(app.services.comparisons.side(name, app.results).results for name in self._more))
        asked = app.services.comparisons.entrants(runs, self._by)
        if self._per == "score":
            return Shown(app.services.comparisons.scores(runs), asked.own.pace, asked.by, runs)
        per: Per = self._per if MEASURES[app.measure].unit == "tokens/s" else ""
        found = lineup(asked.entrants, app.measure, per=per, money=asked.own.money, pace=asked.own.pace.rate)
        held = next((e for e in asked.entrants if e.name == self._reference), None)
        told = tuple(index(asked.entrants, held)) if held is not None else ()
        others = app.services.comparisons.read_reported(self._others) if self._others is not None else ()
        return Shown(found, asked.own.pace, asked.by, runs, told, others=others)

    async def computed(self) -> None:
        """What was seen elsewhere is of those ranked before."""
        self._seen = {}

    @property
    def _shown(self) -> Shown:
        return self.result or Shown()

    @property
    def chart(self) -> Chart | None:
        """What is shown, as a chart."""
        shown = self._shown
        if shown.index:
            return index_chart(shown.index, self._reference)
        return lineup_chart(shown.found, shown.pace, shown.others) if shown.found is not None else None

    @property
    def _places(self) -> list[Place]:
        found = self._shown.found
        return [] if found is None else [p for g in found.groups for p in g.places]

    def draw(self) -> None:
        """Draw everything."""
        p, shown = self.palette, self._shown
        self.query_one(Stations).show(p)
        question = "Which is best for me?"
        self.query_one("#question", Static).update(Text(question, f"bold {p.ink}"))
        chart = self.chart
        if chart is None or shown.found is None:
            self.query_one("#verdict", Static).update(Text(self.trouble, p.failure))
            return
        said = chart.title if shown.index else verdict(shown.found)
        self.query_one("#verdict", Static).update(
            Text(capitalised(said) + ("" if shown.index else "."), f"bold {p.copper}")
        )
        self.query_one("#measure", Static).update(Text(f"{chart.subtitle} · by {shown.by.replace('_', ' ')}", p.muted))
        self._draw_rows(chart)
        self._draw_page()

    def _draw_rows(self, chart: Chart) -> None:
        options = self.query_one(Rows)
        width = max(40, (options.content_size.width or self.size.width - 4) - 3)
        lines: list[ChoiceRow] = []
        axis = Text()
        for place, panel in enumerate(chart.panels):
            drawn = draw_panel(panel, width, 1, self.palette, titled=False).split("\n")
            if panel.title:
                lines.append(ChoiceRow("", Text(panel.title, self.palette.muted)))
            names = _names(panel)
            if panel.title == REPORTED:
                lines += [ChoiceRow("", line) for _, line in zip(names, drawn, strict=False)]
                continue
            lines += [ChoiceRow(f"{place} {name}", line) for name, line in zip(names, drawn, strict=False)]
            axis = drawn[-1] if len(drawn) > len(names) else axis
        options.show(lines)
        self.query_one("#axis", Static).update(Text.assemble("  ", axis))

    @property
    def _chosen(self) -> Place | None:
        name = self.query_one(Rows).chosen.partition(" ")[2]  # the index has each in three panels
        return next((p for p in self._places if p.entrant.name == name), None)

    def _draw_page(self) -> None:
        shown, place, p = self._shown, self._chosen, self.palette
        found = shown.found
        assert found is not None
        words = [money_line(found, shown.pace)]
        words += [f"not ranked: {left.entrant.name}: {left.reason}" for left in found.left]
        words += ["w types it in"] if self._missing is not None else []
        words += [f"{i.entrant.name} has no index: {i.reason}" for i in shown.index if i.reason]
        about: list[str] = []
        if place is not None:
            words = [*standing_lines(place, found, ranks_of(place.entrant, self._places)), "", *words]
            seen = self._seen.get(place.entrant.name)
            about = what_lines(place, host(self).services.comparisons.rig_of(place.entrant.side), seen or ())
            if seen is None:
                self.work(self._find(place), group="seen", exclusive=False)
        for name, lines in (("standing", words), ("what", about)):
            out = Text()
            for i, line in enumerate(lines):
                bold = i == 0 and name == "standing" and place is not None
                out.append(f"{line}\n", f"bold {p.ink}" if bold else p.ink if line.startswith("  ") else p.muted)
            self.query_one(f"#{name}", Static).update(out)

    async def _find(self, place: Place) -> None:
        """Where else it was measured; found once for each."""
        name = place.entrant.name
        self._seen[name] = ()
        with contextlib.suppress(KettleError):
            self._seen[name] = tuple(
                await asyncio.to_thread(host(self).services.comparisons.appearances, place.entrant.side)
            )
        if self.stands and self._shown.found is not None:
            self._draw_page()

    def on_option_list_option_highlighted(self, _event: OptionList.OptionHighlighted) -> None:
        """All about the one that is chosen."""
        if self._shown.found is not None:
            self._draw_page()

    # actions
    def action_next_factor(self) -> None:
        """Rank by another factor."""
        results = host(self).results
        names = [n for n in results.study.leading if len(results.study.vary[n]) > 1] if results is not None else []
        if len(names) < 2:
            self.notify("This study varies one factor only.")
            return
        now = names.index(self._shown.by) if self._shown.by in names else -1
        self._by, self._reference = names[(now + 1) % len(names)], ""
        self.recompute()

    def action_next_measure(self) -> None:
        """The next measure."""
        host(self).next_measure()
        self.recompute()

    def action_money(self) -> None:
        """Per price, per watt, cost, the score over the tasks of the suite, or plain."""
        results, rate = host(self).results, MEASURES[host(self).measure].unit == "tokens/s"
        tasks = results is not None and results.study.names("task")
        there = [per for per in PERS if (per == "score" and tasks) or (per != "score" and rate) or not per]
        if len(there) < 2:
            self.notify("Money and watts are worked into rates of tokens: m shows another measure.")
            return
        self._per = there[(there.index(self._per) + 1) % len(there)] if self._per in there else ""
        self.recompute()

    @property
    def _missing(self) -> Left | None:
        """The first side that a fact is missing of."""
        found = self._shown.found
        return None if found is None else next((left for left in found.left if left.needs in PLACEHOLDERS), None)

    def action_type_fact(self) -> None:
        """Open the line for the fact that is missing."""
        left = self._missing
        if left is None or left.needs is None:
            self.notify("No fact is missing. On Rigs, w types in what is known of a rig.")
            return
        said = PLACEHOLDERS[left.needs].format(name=left.entrant.name)
        self.open_line(f"{said}; enter keeps it, escape cancels")

    def on_input_submitted(self, event: Input.Submitted) -> None:
        """Keep the fact, and rank with it."""
        left, services = self._missing, host(self).services
        if left is not None and left.needs is not None and event.value.strip():
            try:
                if left.needs == "energy_per_kwh":
                    services.set_preference("money.energy_per_kwh", event.value.strip())
                else:
                    rig = services.comparisons.rig_of(left.entrant.side)
                    if rig is None:
                        raise UsageError("its rig is not in the rig file", remedy="add it on Rigs")
                    services.rigs.type_fact(rig.name, f"{left.needs} = {event.value.strip()}")
            except KettleError as error:
                self.notify(str(error), title="Not written", severity="error", timeout=12)
                return
            self.recompute()
        self.close_line()

    def action_index(self) -> None:
        """The index against the chosen one, or the lineup again."""
        place = self._chosen
        self._reference = "" if self._reference or place is None else place.entrant.name
        self.recompute()

    def action_add_study(self) -> None:
        """Another study beside the open one."""
        app = host(self)
        try:
            named = [n for n in app.services.comparisons.named_sides(None)]
        except KettleError as error:
            self.notify(str(error), severity="error")
            return
        choices = [Choice(n.place, n.title, n.what, n.about) for n in named]

        def chosen(key: str) -> None:
            self._more = (*self._more, key) if key not in self._more else self._more
            self.recompute()

        self.choose("Which study is to be lined up, too?", choices, chosen, free=True)

    def action_others(self) -> None:
        """Somebody else's figures below, or no longer."""
        if self._others is not None:
            self._others = None
            self.recompute()
            return
        choices = [
            Choice(str(path), path.name, str(path.parent)) for path in host(self).services.comparisons.reported()
        ]

        def chosen(key: str) -> None:
            self._others = Path(key).expanduser()
            self.recompute()

        self.choose("Whose figures? A CSV file, see docs/charts.md.", choices, chosen, free=True)

    def action_duel(self) -> None:
        """The best against the chosen one."""
        place, places = self._chosen, self._places
        if place is None or len(places) < 2:
            return
        best = places[0] if places[0] is not place else places[1]
        sides = [p.entrant.side for p in (best, place)]
        host(self).open_duel([place_of(s.results, s.levels) for s in sides])

    def action_open_map(self) -> None:
        """The map of the chosen one."""
        place = self._chosen
        if place is not None:
            host(self).open_results(place.entrant.side)

    def figure(self) -> tuple[str, CellResults | None] | None:
        """The measure that is ranked by."""
        return host(self).measure, None

    def clipboard_text(self) -> str:
        """The lineup as a tab-separated table."""
        shown = self._shown
        if shown.found is None:
            return ""
        rows = index_rows(shown.index) if shown.index else lineup_rows(shown.found)
        return "\n".join(
            [verdict(shown.found), "", *("\t".join(row) for row in rows), "", money_line(shown.found, shown.pace)]
        )

    def export_command(self) -> tuple[list[str], str] | None:
        """The command that draws what is shown."""
        shown = self._shown
        if shown.found is None or not shown.runs or not shown.runs[0].run.run_id:
            return None
        words = ["lineup", *(place_of(run, {}) for run in shown.runs), "--by", shown.by]
        words += ["--measure", shown.found.measure]
        words += ["--per", shown.found.per] if shown.found.per else []
        words += ["--index", self._reference] if self._reference else []
        words += ["--with", str(self._others)] if self._others is not None else []
        what = "index" if self._reference else "lineup"
        return words, f"{shown.runs[0].study.name}-{what}-{shown.by}-{shown.found.measure}-{shown.found.per}"

    def action_back(self) -> None:
        """Close the line, or go back where one came from."""
        if not self.close_line():
            host(self).back("map")


def _names(panel: Panel) -> list[str]:
    """What the rows of a panel stand for, in order."""
    return [panel.y.labels[row] for m in panel.marks if isinstance(m, Ranges) for row in m.row]
