"""A guided walk through the demo: real screens, each with a few words and the key that brought it there.

Every step is an action a person could take; the first key a person presses ends the walk where it stands.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from typing import Any, cast

from rich.text import Text
from textual.app import App
from textual.timer import Timer
from textual.widgets import Footer, Static

from zinc_kettle.tui.host import Host
from zinc_kettle.tui.station import Station

READ_S = 2.0
"""Before anything is read."""
WORDS_PER_S = 2.2
"""How fast the words of a step are read, with a look at the screen between them."""
SOON_S = 0.2
"""A screen is there by then, and has done what it was asked to."""
GOES_ON = "space goes on, any other key ends the walk and is yours"


@dataclass(frozen=True, slots=True)
class Step:
    """One stop."""

    say: str
    key: str = ""
    """The key a person would press for it, as they would read it; empty where nothing is pressed."""
    study: str = ""
    """Words of the question of a study on the shelf that is opened."""
    station: str = ""
    """A station to go to."""
    act: str = ""
    """An action of the screen, with its argument where it has one."""

    @property
    def takes_s(self) -> float:
        """How long it stands."""
        return READ_S + len(self.say.split()) / WORDS_PER_S


RIG, WAYS, DESKS, WEEK = "Which rig for the harbour", "Night log and tide table", "How many desks", "Did last week"
STEPS: tuple[Step, ...] = (
    Step(
        "The harbour office of a small island port wants an assistant of its own. What it asked, and what "
        "came out, stands on this shelf: a question, the answer so far, when and where it was measured.",
    ),
    Step(
        "Which rig should it buy? This study was rehearsed on simulated rigs, and says so on every screen. "
        "Two factors span the map: each cell is a median with its interval, copper is the best, a triangle is "
        "a caution.",
        "enter",
        study=RIG,
    ),
    Step(
        "Ranked: a bracket joins rigs that show no clear difference. Here there is none, so the order holds.",
        "7",
        station="lineup",
    ),
    Step(
        "The fastest is not always the one to buy: the same by what a million tokens cost.",
        "p p p",
        act="money",
    ),
    Step(
        "Which quantization, and how many threads? This one was measured on a real engine. Further factors "
        "make slices of the map; the sentence on the right is the answer.",
        "enter",
        study=WAYS,
    ),
    Step(
        "A duel: is the fast one really better than the large one, and what made the difference? Every "
        "measure lies on the side it favours, with its interval. What is not clear is not claimed.",
        "5",
        station="duel",
    ),
    Step(
        "The same prompt by prompt: what holds in general may not hold for your prompts.",
        "v",
        act="by_prompt",
    ),
    Step(
        "How does it change? Scaling with threads, against the ideal. The crosshair says each value.",
        "6",
        station="curves",
    ),
    Step(
        "How many desks can it serve, if nobody is to wait longer than a second? A search looked for the "
        "largest load that keeps the promise, and says which part of it breaks first.",
        "enter",
        study=DESKS,
    ),
    Step(
        "What it walked through: throughput bought with the speed of each user.",
        "6",
        station="curves",
    ),
    Step(
        "Did last week's settings help? A run is held against itself at other levels, block by block.",
        "enter",
        study=WEEK,
    ),
    Step(
        "Two changes at once do not tell which of them helped. A ladder would: l adds a step.",
        "5",
        station="duel",
    ),
    Step(
        "Every figure answers for itself: repeats, requests as bars of waiting, prefill and decode, where the "
        "time of a token goes, how the engine was started, what may be wrong.",
        "4 enter",
        station="map",
        act="open_cell",
    ),
    Step(
        "What would run on a machine, before anything is loaded: memory, predicted speed, and whether it "
        "keeps the pace of a reader.",
        "2",
        station="fit",
    ),
    Step(
        "A plan reads as sentences that are the study file. On the right is the map it will fill, what it "
        "costs, and what is doubtful about it.",
        "3",
        station="plan",
    ),
    Step(
        "And a page to hand on: your own words between the sections, as HTML, Markdown and PDF. e writes it.",
        "8",
        station="report",
    ),
    Step(
        "That was the walk. The shelf is yours: open a study with enter, or press m to measure a model of your own.",
        "0",
        station="shelf",
    ),
)


class WalkBar(Static):
    """What a step says, above the footer."""

    DEFAULT_CSS = """
    WalkBar {
        dock: bottom; margin: 0 0 1 0; height: auto; max-height: 5; padding: 0 2; background: $panel;
        border-top: solid $accent;
    }
    """


class Walk:
    """Goes from step to step.

    Args:
        app: The application.
        ended: Called once it is over.
    """

    def __init__(self, app: App[Any], ended: Callable[[], None]) -> None:
        self._app = app
        self._host = cast(Host, app)
        self._ended = ended
        self._at = -1
        self._timer: Timer | None = None

    def start(self) -> None:
        """Begin."""
        self.next()

    def next(self) -> None:
        """The next step; the end where there is none."""
        if self._timer is not None:
            self._timer.stop()
        self._at += 1
        if self._at >= len(STEPS):
            self.stop()
            return
        step = STEPS[self._at]
        if step.study:
            self._open(step.study)
        if step.station:
            self._host.go(step.station)
        self._timer = self._app.set_timer(step.takes_s, self.next)
        # By a timer: what is to be called after a refresh is lost with a screen that has gone by then.
        self._app.set_timer(SOON_S, partial(self._act, step))

    def _open(self, words: str) -> None:
        self._host.go("shelf")
        entry = next((e for e in self._host.services.studies.shelf() if words in e.question and e.runs), None)
        if entry is not None:
            self._host.open_study(entry)

    async def _act(self, step: Step) -> None:
        if self._at < 0 or STEPS[self._at] is not step:
            return  # hurried past
        screen = self._app.screen
        if step.act and isinstance(screen, Station):
            for _ in range(max(1, step.key.count(step.key.split()[0]))):
                await screen.run_action(step.act)
        self._app.set_timer(SOON_S, partial(self._say, step))

    def _say(self, step: Step) -> None:
        screen = self._app.screen
        # Nothing is waited for: the screen may be busy reading, and the walk would stand still with it.
        screen.query(WalkBar).remove()
        if self._at < 0 or STEPS[self._at] is not step or not isinstance(screen, Station):
            return
        if not screen.query(Footer):  # not composed yet
            self._app.set_timer(SOON_S, partial(self._say, step))
            return
        p = screen.palette
        words = Text()
        if step.key:
            words.append(f" {step.key} ", f"bold {p.copper_ink} on {p.copper}")
            words.append("  ")
        words.append(step.say, p.ink)
        words.append(f"\n{self._at + 1} of {len(STEPS)}; {GOES_ON}", p.muted)
        screen.mount(WalkBar(words), before=screen.query_one(Footer))

    def stop(self) -> None:
        """End it where it stands."""
        self._at = -1
        if self._timer is not None:
            self._timer.stop()
        self._app.screen.query(WalkBar).remove()
        self._ended()
