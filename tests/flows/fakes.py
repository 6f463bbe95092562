"""Stand-ins for engines and drivers, and a bench that runs studies over them with a real store."""

from __future__ import annotations

import asyncio
import dataclasses
from collections.abc import Callable, Sequence
from pathlib import Path

from tests.build import RECIPES, timeline
from zinc_kettle.core.facts import EngineFacts, RunFacts
from zinc_kettle.core.plan.study import LaunchSpec, Study
from zinc_kettle.core.record.telemetry import Launch
from zinc_kettle.core.record.timeline import Timeline
from zinc_kettle.core.results import StudyResults
from zinc_kettle.errors import EngineError
from zinc_kettle.formats.models import ModelFolder
from zinc_kettle.ports.engines import RunningEngine
from zinc_kettle.ports.models import ModelFile
from zinc_kettle.rigs.local import SystemClock
from zinc_kettle.rigs.telemetry import TreeWatch
from zinc_kettle.session import progress as p
from zinc_kettle.session.experiment import Experiment
from zinc_kettle.session.ports import Ports
from zinc_kettle.store.reading import open_run
from zinc_kettle.store.store import KettleStore
from zinc_kettle.wire.messages import ChatMessage, Episode, EpisodeDone, Setup, Tick


class FakeEngine:
    """Answers nothing; counts four characters a token."""

    def __init__(self, spec: LaunchSpec, launch_id: str) -> None:
        self.base_url, self.model_name = "http://x", "m"
        self.key_variable: str | None = None
        self.key_file: str | None = None
        self.ca_file: str | None = None
        self.pid: int | None = None
        self.rig: str | None = None
        self.launch = Launch(launch_id, 5, None)
        self.facts: EngineFacts = {"launch_line": f"threads {spec.number('threads')}"}
        self.recipe = RECIPES["built-in"]
        self.stopped = False

    def alive(self) -> bool:
        return not self.stopped

    def last_words(self) -> str:
        return "these were its last words"

    async def count_tokens(self, messages: Sequence[ChatMessage]) -> int | None:
        return 10 + len(messages[0].content.split())

    async def round_trip_s(self) -> float | None:
        return None

    async def look_again(self) -> None:
        pass

    async def stop(self) -> None:
        self.stopped = True


class FakeEngines:
    """Starts fakes; fails for the thread counts it is told to."""

    def __init__(self, broken: set[int]) -> None:
        self.broken = broken
        self.started: list[FakeEngine] = []
        self.tries: list[int | None] = []
        self.facts: EngineFacts = {}
        """What the engines say of themselves."""

    async def start(self, spec: LaunchSpec, model: ModelFile | None, *, launch_id: str) -> FakeEngine:
        self.tries.append(spec.number("threads"))
        if spec.number("threads") in self.broken:
            raise EngineError("the engine did not start", last_words="no memory", remedy="less")
        self.started.append(FakeEngine(spec, launch_id))
        self.started[-1].facts.update(self.facts)
        return self.started[-1]

    async def close(self) -> None:
        pass


class FakeDriver:
    """Answers each request at once, or does what its script says."""

    def __init__(self, act: Callable[[Episode], Timeline | Exception]) -> None:
        self.act = act
        self.closed = False

    async def aim(self, setup: Setup) -> None:
        pass

    async def run(
        self, episode: Episode, *, on_tick: Callable[[Tick], None], on_timeline: Callable[[Timeline], None]
    ) -> EpisodeDone:
        for order in episode.requests:
            answer = self.act(episode)
            if isinstance(answer, Exception):
                raise answer
            on_timeline(dataclasses.replace(answer, request_id=order.id, role=order.role, cold=order.cold))  # type: ignore[arg-type]
        await asyncio.sleep(0)
        return EpisodeDone(episode.id, 0, 1000, 1)

    async def close(self) -> None:
        self.closed = True


def sound(_episode: Episode) -> Timeline:
    """A good answer."""
    return timeline(asked_tokens=4)


class FakeTelemetry:
    """This machine's, without knowing what it is."""

    def watch(self, engine: RunningEngine) -> TreeWatch:
        return TreeWatch(engine.pid)

    async def machine_facts(self) -> RunFacts:
        return {"processor": "made up"}


class Bench:
    """A study over fakes and a real store."""

    def __init__(
        self, tmp_path: Path, act: Callable[[Episode], Timeline | Exception] = sound, broken: set[int] | None = None
    ) -> None:
        self.store = KettleStore(tmp_path / "s.db")
        self.engines = FakeEngines(broken or set())
        self.drivers: list[FakeDriver] = []
        self.act = act
        self.telemetry = FakeTelemetry()
        self.events: list[p.Event] = []
        self.watch: Callable[[p.Event], None] = lambda _event: None
        """Called with each event, as somebody would who looks on."""
        self.home = tmp_path

    async def driver(self) -> FakeDriver:
        self.drivers.append(FakeDriver(self.act))
        return self.drivers[-1]

    def work(self, plan: Study) -> Experiment:
        (self.home / "models").mkdir(exist_ok=True)
        for name in ("Q8_0", "Q4_0", "F16"):
            (self.home / "models" / f"brine-15m.{name}.gguf").write_bytes(b"GGUF")
        ports = Ports(
            self.engines, ModelFolder(self.home / "models"), self.driver, self.telemetry, self.store, SystemClock()
        )
        return Experiment(plan, ports, self._emit, nonce="n")

    def _emit(self, event: p.Event) -> None:
        self.events.append(event)
        self.watch(event)

    @property
    def run_id(self) -> str:
        """The run that was begun last."""
        return [e for e in self.events if isinstance(e, p.Began)][-1].run_id

    async def run(self, plan: Study) -> StudyResults:
        await self.work(plan).run()
        return open_run(self.store, self.run_id)
