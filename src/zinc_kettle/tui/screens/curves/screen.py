"""Curves of the open study: one chart, large, and the kinds there are."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from rich.text import Text
from textual.app import ComposeResult
from textual.containers import Horizontal, Vertical
from textual.widgets import Footer, OptionList, Static

from zinc_kettle.core.chart import Chart, extent, positions
from zinc_kettle.core.chart_view import Spot, View, series_of, spots, viewed
from zinc_kettle.core.results import CellResults
from zinc_kettle.present.charts import offered
from zinc_kettle.present.charts.curves import numbers
from zinc_kettle.present.charts.kinds import ChartKind, Subject
from zinc_kettle.tui.actions import binding_for, bindings
from zinc_kettle.tui.choices import ChoiceRow, Choices
from zinc_kettle.tui.chooser import Choice
from zinc_kettle.tui.draw.chart import draw_chart
from zinc_kettle.tui.draw.curves import points_text, spot_text
from zinc_kettle.tui.draw.plot import Cross
from zinc_kettle.tui.host import host
from zinc_kettle.tui.recomputed import Recomputed
from zinc_kettle.tui.widgets.station_line import Stations

ZOOM = 1.6
NOT_HERE = frozenset({"map", "lines"})
"""Kinds that have a station of their own, or that another kind shows better where it can be drawn."""


class Kinds(Choices):
    """The list; left and right belong to the crosshair."""

    MARKED = True
    BINDINGS = [  # noqa: RUF012
        binding_for("curves", "earlier_point", "screen.earlier_point"),
        binding_for("curves", "later_point", "screen.later_point"),
        binding_for("curves", "open_point", "screen.open_point"),
    ]


class CurvesScreen(Recomputed[tuple[list[ChartKind], Chart | None]]):
    """One chart of the open study."""

    BINDINGS = bindings("curves")
    AUTO_FOCUS = "#kinds"

    def __init__(self) -> None:
        super().__init__()
        self._kind = ""
        self._factor = ""
        self._others: Path | None = None
        self._view = View()
        self._at = 0
        self._subject: Subject | None = None

    def widgets(self) -> ComposeResult:
        """The chart, the selected point, the kinds."""
        yield Stations("curves")
        yield Static(id="question")
        yield Static(id="measure")
        with Horizontal(id="body"):
            with Vertical(id="left"):
                yield Static(id="plot")
                yield Static(id="spot")
            with Vertical(id="side"):
                yield Kinds(id="kinds")
                yield Static(id="about")
        yield Footer()

    def compute(self) -> tuple[list[ChartKind], Chart | None]:
        """The kinds of chart there are, and the chosen one."""
        app = host(self)
        results = app.results
        if results is None:
            return [], None
        self._subject = app.services.comparisons.chart_subject(results, app.measure, self._factor, self._others)
        kinds = [k for k in offered(self._subject) if k.of == "study" and k.name not in NOT_HERE]
        kinds = kinds or [k for k in offered(self._subject) if k.name == "lines"]
        kind = next((k for k in kinds if k.name == self._kind), kinds[0] if kinds else None)
        self._kind = kind.name if kind is not None else ""
        return kinds, None if kind is None else kind.build(self._subject)

    @property
    def _kinds(self) -> list[ChartKind]:
        return [] if self.result is None else self.result[0]

    @property
    def _chart(self) -> Chart | None:
        return None if self.result is None else self.result[1]

    def _list(self) -> None:
        options = self.query_one(Kinds)
        options.show([ChoiceRow(kind.name, Text(kind.title, self.palette.ink), kind.help) for kind in self._kinds])
        options.choose(self._kind)

    @property
    def _shown(self) -> Chart | None:
        return None if self._chart is None else viewed(self._chart, self._view)

    @property
    def _spots(self) -> list[Spot]:
        chart = self._shown
        return [] if chart is None else spots(chart)

    @property
    def _spot(self) -> Spot | None:
        found = self._spots
        return found[min(self._at, len(found) - 1)] if found else None

    def draw(self) -> None:
        """Draw everything."""
        p, chart, results = self.palette, self._shown, host(self).results
        self.query_one(Stations).show(p)
        self._list()
        self.query_one("#question", Static).update(Text(results.study.question if results else "", f"bold {p.ink}"))
        kind = next((k for k in self._kinds if k.name == self._kind), None)
        about = Text(f"{kind.help}\n" if kind else "", p.ink)
        for note in chart.notes if chart is not None else ():
            about.append(f"\n{note}", p.muted)
        self.query_one("#about", Static).update(about)
        area = self.query_one("#plot", Static)
        size = area.content_size
        if chart is None:
            nothing = "Nothing can be drawn yet. Press 4, then r to measure this study." if self.looked else "Reading …"
            empty = self.trouble or nothing
            area.update(Text(empty, p.failure if self.trouble else p.muted))
            self.query_one("#spot", Static).update("")
            return
        self.query_one("#measure", Static).update(Text(chart.subtitle, p.muted))
        spot = self._spot
        cross = None if spot is None else Cross(spot.panel, spot.x, spot.y)
        area.update(draw_chart(chart, max(20, size.width), max(8, size.height), p, cross=cross, headed=False))
        self.query_one("#spot", Static).update(spot_text(chart, spot, self._at + 1, len(self._spots), self._view, p))

    # actions
    def on_option_list_option_highlighted(self, _event: OptionList.OptionHighlighted) -> None:
        """Another kind."""
        name = self.query_one(Kinds).chosen
        if name and name != self._kind:
            self._kind, self._view, self._at = name, View(), 0
            self.recompute()

    def action_earlier_point(self) -> None:
        """The crosshair one point to the left."""
        self._move(-1)

    def action_later_point(self) -> None:
        """One point to the right."""
        self._move(1)

    def _move(self, step: int) -> None:
        many = len(self._spots)
        if many:
            self._at = (min(self._at, many - 1) + step) % many
            self.redraw()

    def action_closer(self) -> None:
        """Zoom in around the crosshair."""
        self._zoom(1 / ZOOM)

    def action_wider(self) -> None:
        """Zoom out."""
        self._zoom(ZOOM)

    def _zoom(self, times: float) -> None:
        spot, chart = self._spot, self._chart
        if spot is None or chart is None or chart.panels[spot.panel].x.scale == "categories":
            return
        panel = chart.panels[spot.panel]
        whole = extent(positions(panel, "x"), panel.x.low, panel.x.high)
        low, high = self._view.window or whole
        half = (high - low) * times / 2
        window = max(whole[0], spot.x - half), min(whole[1], spot.x + half)
        self._view = replace(self._view, window=None if window == whole or window[0] >= window[1] else window)
        self._stay(spot)

    def _stay(self, spot: Spot) -> None:
        """Keep the crosshair on its point."""
        found = self._spots
        same = [i for i, s in enumerate(found) if (s.series, s.x, s.y) == (spot.series, spot.x, spot.y)]
        self._at = same[0] if same else 0
        self.redraw()

    def action_other_scale(self, axis: str) -> None:
        """An axis by the other scale."""
        self._view = replace(self._view, log=self._view.log ^ {axis})
        self.redraw()

    def action_hide(self) -> None:
        """Hide the selected series."""
        spot, chart = self._spot, self._chart
        if spot is not None and chart is not None and len(series_of(chart)) > len(self._view.hidden) + 1:
            self._view = replace(self._view, hidden=self._view.hidden | {spot.series})
            self.redraw()

    def action_show_all(self) -> None:
        """Everything again."""
        self._view = View()
        self.redraw()

    def action_next_factor(self) -> None:
        """Run over another factor."""
        results = host(self).results
        found = numbers(results) if results is not None else []
        if len(found) < 2:
            self.notify("This study varies one number only.")
            return
        now = found.index(self._factor) if self._factor in found else 0
        self._factor, self._view, self._at = found[(now + 1) % len(found)], View(), 0
        self.recompute()

    def action_next_measure(self) -> None:
        """The next measure."""
        host(self).next_measure()
        self.recompute()

    def action_others(self) -> None:
        """Overlay figures from elsewhere, or remove them."""
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

    def action_open_point(self) -> None:
        """The sheet of the selected cell."""
        spot = self._spot
        if spot is not None and spot.key:
            host(self).open_cell(spot.key)

    def figure(self) -> tuple[str, CellResults | None] | None:
        """The measure of the chart, and the cell of the selected point."""
        results, spot = host(self).results, self._spot
        here = results.cell(spot.key) if results is not None and spot is not None and spot.key else None
        return host(self).measure, here

    def clipboard_text(self) -> str:
        """The points of the chart, as a table."""
        chart, results = self._shown, host(self).results
        return "" if chart is None or results is None else points_text(chart)

    def export_command(self) -> tuple[list[str], str] | None:
        """The command that draws what is shown."""
        results, view = host(self).results, self._view
        if self._chart is None or results is None or not results.run.run_id:
            return None
        words = ["chart", results.run.run_id, "--kind", self._kind, "--measure", host(self).measure]
        words += ["--factor", self._factor] if self._factor else []
        words += ["--with", str(self._others)] if self._others is not None else []
        words += [word for name in sorted(view.hidden) for word in ("--hide", name)]
        words += ["--log", "".join(sorted(view.log))] if view.log else []
        words += ["--range", f"{view.window[0]!r}..{view.window[1]!r}"] if view.window is not None else []
        return words, f"{results.study.name}-{results.run.number}-{self._kind}-{host(self).measure}"

    def action_back(self) -> None:
        """Back where one came from."""
        host(self).back("map")
