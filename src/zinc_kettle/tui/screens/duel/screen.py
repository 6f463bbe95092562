"""One side against another, or a chain of changes."""

from __future__ import annotations

from dataclasses import dataclass, replace

from rich.text import Text
from textual.app import ComposeResult
from textual.containers import VerticalScroll
from textual.widgets import Footer, Static

from zinc_kettle.core.chart import Chart
from zinc_kettle.core.compare.duel import Duel, PairContest, Rung, duel, effort, ladder, prompt_by_prompt
from zinc_kettle.core.compare.sides import Side
from zinc_kettle.core.results import CellResults, StudyResults
from zinc_kettle.errors import KettleError
from zinc_kettle.present.charts.duel import duel_chart, ladder_chart, pairs_chart, prompts_chart
from zinc_kettle.present.duel import side_title
from zinc_kettle.tui.actions import bindings
from zinc_kettle.tui.chooser import Choice
from zinc_kettle.tui.draw.chart import draw_panel
from zinc_kettle.tui.draw.duel import beside_duel, beside_ladder, sides_text, verdict_text
from zinc_kettle.tui.host import host
from zinc_kettle.tui.recomputed import Recomputed
from zinc_kettle.tui.widgets.station_line import Stations

CHAIN = "one change after the other"
"""What stands for a whole ladder in the list of rungs."""


@dataclass(frozen=True)
class Comparison:
    """What came of the sides that are shown."""

    names: tuple[str, ...] = ()
    sides: tuple[Side, ...] = ()
    measure: str = ""
    duel: Duel | None = None
    rungs: tuple[Rung, ...] = ()
    prompts: tuple[PairContest, ...] | None = None
    trouble: str = ""
    chart: Chart | None = None
    """Every measure of a duel, or the steps of a ladder."""
    closer: Chart | None = None
    """A duel looked at closer: pair by pair, or prompt by prompt; of a ladder all measures of its ends."""


def _drawn(found: Comparison) -> Comparison:
    """With its charts."""
    if found.duel is None or not found.duel.alignment.pairs:
        return found
    whole = duel_chart(found.duel, found.measure, step=bool(found.rungs))
    if found.rungs:
        titled = tuple(replace(panel, title="the last against the first") for panel in whole.panels)
        return replace(found, chart=ladder_chart(found.rungs, found.measure), closer=replace(whole, panels=titled))
    if found.prompts is not None:
        return replace(found, chart=whole, closer=prompts_chart(found.duel, found.measure, found.prompts))
    return replace(found, chart=whole, closer=pairs_chart(found.duel, found.measure))


class DuelScreen(Recomputed[Comparison]):
    """Holds sides against each other."""

    BINDINGS = bindings("duel")

    def __init__(self) -> None:
        super().__init__()
        self._by_prompt = False

    def widgets(self) -> ComposeResult:
        """Question, sides, verdict; measures around a line at 1, and what must be said with them."""
        yield Stations("duel")
        yield Static(id="question")
        yield Static(id="sides")
        yield Static(id="verdict")
        yield Static(id="beside")
        with VerticalScroll(id="body", can_focus=False):
            yield Static(id="rows")
            yield Static(id="more")
        yield Footer()

    def compute(self) -> Comparison:
        """The sides, and what their comparison came to; a run of ten thousand cells is aligned in seconds."""
        app = host(self)
        return self._look(app.rungs, app.results, app.measure)

    def gave_up(self, said: str) -> None:
        """In place of the verdict, below the sides' names."""
        super().gave_up(said)
        self.result = Comparison(host(self).rungs, trouble=said)

    @property
    def _found(self) -> Comparison:
        return self.result or Comparison()

    def _look(self, names: tuple[str, ...], results: StudyResults | None, measure: str) -> Comparison:
        services = host(self).services
        try:
            sides = tuple(services.comparisons.side(name, results) for name in names)
        except KettleError as error:
            return Comparison(names, trouble=str(error))
        if len(sides) < 2:
            return Comparison(names, sides, measure)
        if len(sides) > 2:
            whole = duel(sides[0], sides[-1], asked=measure)
            return _drawn(Comparison(names, sides, measure, duel=whole, rungs=tuple(ladder(sides, [measure]))))
        found = duel(sides[0], sides[1], asked=measure)
        rows = tuple(prompt_by_prompt(found, measure)) if self._by_prompt else None
        return _drawn(Comparison(names, sides, measure, duel=found, prompts=rows))

    def draw(self) -> None:
        """Draw everything."""
        p, found = self.palette, self._found
        self.query_one(Stations).show(p)
        question = "What did each change bring?" if len(host(self).rungs) > 2 else "Is B better than A, and why?"
        self.query_one("#question", Static).update(Text(question, f"bold {p.ink}"))
        self.query_one("#sides", Static).update(sides_text(found.sides, found.names, found.trouble, p))
        self.query_one("#verdict", Static).update(
            verdict_text(found.duel, found.rungs, found.measure, p) if found.sides else Text()
        )
        self._draw(found.chart, "rows")
        self._draw(found.closer, "more")
        name = found.measure
        beside = beside_ladder(found.rungs, name, p) if found.rungs else beside_duel(found.duel, name, p)
        self.query_one("#beside", Static).update(beside)

    def _draw(self, chart: Chart | None, where: str) -> None:
        area = self.query_one(f"#{where}", Static)
        out = Text(no_wrap=True)
        for place, panel in enumerate(chart.panels if chart is not None else ()):
            out.append("\n\n" if place else "")
            out.append_text(draw_panel(panel, max(40, area.content_size.width), 1, self.palette))
        area.update(out)

    # actions
    def action_choose(self, place: int) -> None:
        """Choose a side."""
        self._ask(("Which is A, what the other is held against?", "Which is B?")[place], place)

    def action_add_rung(self) -> None:
        """A further change."""
        self._ask("Which is the next rung of the ladder?", len(host(self).rungs))

    def _ask(self, title: str, place: int) -> None:
        app = host(self)
        try:
            named = app.services.comparisons.named_sides(app.results)
        except KettleError as error:
            self.notify(str(error), severity="error")
            return
        choices = [Choice(n.place, n.title, n.what, n.about or n.place) for n in named]
        # A whole ladder is offered in place of the first rung beyond two sides.
        chain = app.services.comparisons.one_by_one(app.results) if place == 2 else ()
        if chain:
            steps = f"{len(chain)} rungs of this study, one setting more at each"
            choices.insert(0, Choice(CHAIN, CHAIN, steps, ", ".join(chain)))

        def chosen(key: str) -> None:
            rungs = [*app.rungs]
            rungs[place : place + 1] = [key]
            app.rungs = chain if key == CHAIN else tuple(rungs)
            self.recompute()

        self.choose(title, choices, chosen, free=True)

    def action_swap(self) -> None:
        """The other way round."""
        host(self).rungs = tuple(reversed(host(self).rungs))
        self.recompute()

    def action_remove_rung(self) -> None:
        """Without the last rung."""
        if len(host(self).rungs) > 2:
            host(self).rungs = host(self).rungs[:-1]
            self.recompute()

    def action_next_measure(self) -> None:
        """Show the verdict for the next measure."""
        host(self).next_measure()
        self.recompute()

    def action_by_prompt(self) -> None:
        """Compare by prompt, or by pair of cells."""
        self._by_prompt = not self._by_prompt
        self.recompute()

    def action_settle(self) -> None:
        """Add the repeats that would settle it."""
        found = self._found
        if found.duel is None or found.rungs:
            self.notify("Repeats are added to a duel of two sides.")
            return
        smallest = found.sides[0].results.study.repeats.smallest_percent / 100
        more = effort(found.duel, found.measure, smallest=smallest)
        if more is None:
            self.notify("There is nothing left to settle here, or too little is measured to say what would.")
            return
        host(self).more_repeats(found.sides, more.repeats)

    def action_open_b(self) -> None:
        """To the map of the last side."""
        if self._found.sides:
            host(self).open_results(self._found.sides[-1])

    def figure(self) -> tuple[str, CellResults | None] | None:
        """The measure of the verdict."""
        return host(self).measure, None

    def clipboard_text(self) -> str:
        """What is shown, as text."""
        return self.panel_text("sides", "verdict", "rows", "beside", "more")

    def export_command(self) -> tuple[list[str], str] | None:
        """The command that draws what is shown, and a name for the file."""
        found = self._found
        if len(found.sides) < 2:
            return None
        name = "ladder" if found.rungs else "duel"
        stem = "-".join(side_title(side) for side in found.sides)
        words = [name, *found.names, "--measure", found.measure]
        return [*words, *(["--prompts"] if self._by_prompt and not found.rungs else [])], f"{name}-{stem}"

    def action_back(self) -> None:
        """Back where one came from."""
        host(self).back("shelf")
