"""A study's machines as the session sees them: engines, models and telemetry, each found by the rig's name."""

from __future__ import annotations

import asyncio
import hashlib
from collections import defaultdict
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from functools import cached_property
from pathlib import Path, PurePosixPath
from typing import cast

from zinc_kettle.app.rigbook import RigBook, is_here
from zinc_kettle.core.checks.validate import decode_depth
from zinc_kettle.core.facts import MachineFacts, PredictedFacts, RunFacts, depth_key
from zinc_kettle.core.fit.placement import place
from zinc_kettle.core.fit.predict import placed_speed
from zinc_kettle.core.fit.sizing import wish_of
from zinc_kettle.core.fit.step_work import describe
from zinc_kettle.core.model_shape import ModelShape
from zinc_kettle.core.plan.recipe import BUILT_IN, Endpoint, Recipe, further_models
from zinc_kettle.core.plan.study import Cell, LaunchSpec, Study, rigs_of
from zinc_kettle.core.problem import nearest
from zinc_kettle.core.rig import RigPlan
from zinc_kettle.engines.endpoint import EndpointStarter
from zinc_kettle.engines.launcher import Launcher
from zinc_kettle.engines.orphans import Orphans
from zinc_kettle.engines.rehearsal import RehearsalStarter
from zinc_kettle.engines.remote import RemoteLauncher, RemoteModels
from zinc_kettle.errors import EngineError, KettleError, ModelError, RigError, UsageError
from zinc_kettle.formats.gguf_model import read_gguf, read_gguf_head
from zinc_kettle.formats.models import ModelFolder
from zinc_kettle.ports.engines import Engines, RunningEngine
from zinc_kettle.ports.models import ModelFile
from zinc_kettle.ports.telemetry import Watch
from zinc_kettle.present.fit_rows import FitRow
from zinc_kettle.rigs.adapters import RehearsalRig, SshRig
from zinc_kettle.rigs.agent.watch import Power
from zinc_kettle.rigs.scrape import Names, ScrapeWatch, scraped_idle_watts
from zinc_kettle.rigs.ssh_watch import RemoteSampler
from zinc_kettle.rigs.telemetry import IDLE_S, TreeWatch, idle_watts
from zinc_kettle.sim.fleet import sim_shape


class Fleet:
    """Implements ports.Engines, ports.Models and ports.Telemetry over a person's rigs.

    Args:
        study: The study.
        book: The rig file.
        folder: The model folder.
        recipes: How engines are started and asked, by name.
        leftovers: Notes engines that must not outlive the tool; None notes none.
        predicted: What is predicted of the cells of the study, by key.
    """

    def __init__(
        self,
        study: Study,
        book: RigBook,
        folder: ModelFolder,
        recipes: Mapping[str, Recipe],
        leftovers: Orphans | None = None,
        predicted: Callable[[], Mapping[str, FitRow]] = dict,
    ) -> None:
        self._predicted = predicted
        self._study = study
        self._recipes = recipes
        self._leftovers = leftovers
        self._book = book
        self._folder = folder
        self._idle: dict[str | None, float | None] = {}
        self._sampler: RemoteSampler | None = None
        self._metrics: str | None = None
        """How the engine that runs now is watched, where it is not by its process here; engines run one at a time."""
        self._shapes: dict[tuple[str, str], ModelShape | None] = {}
        """Of models on other machines, read once: headers may have tens of megabytes."""
        self._hashes: dict[tuple[str, str], str] = {}
        for name in rigs_of(study):
            self._check(name)

    def _check(self, name: str) -> None:
        """Refuse what a rig cannot do, before anything is started."""
        plan = self._book.plan(name)
        if plan.reach == "paper":
            raise UsageError(
                f"nothing can be measured on {name}",
                why="it is on paper: there is only its data sheet",
                remedy="see what fits there and about how fast: zinc-kettle fit --rig " + name,
            )
        cells = [cell for cell in self._study.cells if cell.settings["rig"] == name]
        engines = {cell.engine.name: cell.engine for cell in cells}
        named = [n for n in (*self._study.vary, *self._study.hold) if n not in {"rig", "engine", "model"}]
        for engine in engines.values():
            launch = [n for n in named if (s := engine.named(n)) is not None and s.on_launch]
            launch += [n for n in named if n == "quantization"]
            if plan.reach == "url" and launch:
                raise UsageError(
                    f"{launch[0]} cannot be set on {name}",
                    why="its engine already runs",
                    remedy=f"leave {launch[0]} out, or reach the rig over SSH",
                )
            if plan.reach == "url" and engine.name != plan.engine:
                raise UsageError(
                    f"{name} does not run {engine.name}",
                    why=f"the rig file says it speaks {plan.engine}",
                    remedy=f'leave engine out, or write engine = "{engine.name}" in the rig file',
                )
            if plan.reach == "rehearsal" and engine.name != BUILT_IN:
                raise UsageError(
                    f"{engine.name} cannot run on {name}",
                    why="simulated rigs stand in for one engine",
                    remedy=f'engine = "{BUILT_IN}", or a rig that is not simulated',
                )
            if plan.reach == "ssh" and not (self._python(plan, engine.name) and plan.models):
                raise UsageError(
                    f"no engine can be started on {name}",
                    why=f"the rig file does not say where its models are, or which Python has {engine.name}",
                    remedy='add models, and engine_python or engines; or reach a running engine with reach = "url"',
                )

    def _python(self, plan: RigPlan, engine: str) -> str:
        """The Python an engine lives in, on a rig; empty for the tool's own."""
        start = self._recipes[engine].start if engine in self._recipes else None
        own = "" if start is None else start.python
        if plan.reach == "ssh":
            # Another machine has other folders: a path of this one says nothing there.
            return plan.engines.get(engine) or ("" if own else plan.engine_python or "")
        return str(Path(plan.engines.get(engine) or own).expanduser()) if plan.engines.get(engine) or own else ""

    # models
    def find(self, model: str, quantization: str | None, rig: str | None = None) -> ModelFile | None:
        """The file, for this machine; other machines look when the engine starts."""
        return self._folder.find(model, quantization) if is_here(rig) else None

    def needs_making(self, rig: str | None) -> bool:
        """Only this machine's models are made here."""
        return is_here(rig)

    def planned_bytes(self, model: str, quantization: str | None) -> int:
        """Size of a file that would have to be made."""
        return self._folder.planned_bytes(model, quantization)

    def make(self, model: str, quantization: str | None, progress: Callable[[int, int], None]) -> ModelFile:
        """Make it."""
        return self._folder.make(model, quantization, progress)

    # engines
    async def start(self, spec: LaunchSpec, model: ModelFile | None, *, launch_id: str) -> RunningEngine:
        """Start an engine on its rig; its facts then tell the model's shape and what was predicted."""
        name = spec.rig
        if name not in self._idle:
            self._idle[name] = await self._idle_watts(name)
        starter, file, shape = await self._prepared(spec, model)
        engine = await starter.start(spec, file, launch_id=launch_id)
        engine.facts["rig"] = self._book.plan(name).name
        if self._book.plan(name).simulated:
            engine.facts["simulated"] = True
        if file is not None:
            engine.facts["file"] = {"name": file.path.name, "size_bytes": file.size_bytes}
            engine.facts["file"]["sha256"] = await self._hash(file.path, self._book.plan(name))
        if shape is not None:
            engine.facts["model"] = describe(shape)
            if engine.recipe.engine.fits:
                self._predict(engine, spec, shape)
        idle = self._idle[name]
        if idle is not None:
            engine.facts["idle_w"] = idle
        try:
            await self._watch_there(engine, spec)
        except (RigError, EngineError) as error:
            await engine.stop()
            raise EngineError(
                f"{name} cannot be probed while it is being measured", why=str(error), remedy="see the rig on Rigs"
            ) from error
        return engine

    async def _hash(self, path: Path, plan: RigPlan) -> str:
        """The file's hash; computed once a run, when it has just been loaded and nothing is being measured."""
        key = plan.name, path.as_posix()
        if key not in self._hashes:
            if plan.reach == "ssh":
                rig = self._book.adapter(plan.name)
                assert isinstance(rig, SshRig)
                models = RemoteModels(rig.shell, str(plan.models), plan.name)
                self._hashes[key] = await models.sha256(key[1], plan.python)
            else:
                self._hashes[key] = await asyncio.to_thread(sha256_of, path)
        return self._hashes[key]

    async def _prepared(
        self, spec: LaunchSpec, model: ModelFile | None
    ) -> tuple[Engines, ModelFile | None, ModelShape | None]:
        plan, limit = self._book.plan(spec.rig), self._study.limits.load_s
        recipe = recipe_named(self._recipes, spec.engine)
        if plan.reach == "ssh":
            return await self._prepared_there(plan, recipe, spec)
        if plan.reach == "rehearsal":
            simulated = self._book.adapter(plan.name)
            assert isinstance(simulated, RehearsalRig)
            try:
                address = await simulated.address()
            except RigError as error:
                raise EngineError(f"{plan.name} did not start", why=str(error)) from error
            return RehearsalStarter(address, recipe, load_limit_s=limit), None, _sim_shape(spec)
        if plan.reach == "url":
            running = Endpoint(plan.url, spec.model or plan.model, plan.key_variable, plan.key_file, plan.ca_file)
            return EndpointStarter(running, recipe, plan.name, self._book.keys), None, None
        if recipe.endpoint is not None:
            # "default" is no model's name: then the study's is asked for.
            given = recipe.endpoint
            endpoint = replace(given, model=spec.model) if given.model == "default" and spec.model else given
            return EndpointStarter(endpoint, recipe, None, self._book.keys), None, None
        here = await asyncio.to_thread(_shape, model) if model is not None else None
        files = {
            name: found.path
            for name, wanted in further_models(recipe.engine, spec.levels).items()
            if (found := self._folder.find(*wanted)) is not None
        }
        python = self._python(plan, spec.engine)
        starter = Launcher(recipe, python=python, load_limit_s=limit, leftovers=self._leftovers, files=files)
        return starter, model, here

    async def _prepared_there(
        self, plan: RigPlan, recipe: Recipe, spec: LaunchSpec
    ) -> tuple[Engines, ModelFile | None, ModelShape | None]:
        """On another machine: its files are looked for there."""
        rig = self._book.adapter(plan.name)
        assert isinstance(rig, SshRig)
        models = RemoteModels(rig.shell, str(plan.models), plan.name)
        path, size = await models.find(spec.model, spec.quantization)
        there = ModelFile(spec.model, spec.quantization, Path(path), size)
        files = {
            name: (await models.find(*wanted))[0] for name, wanted in further_models(recipe.engine, spec.levels).items()
        }
        key = (plan.name, path)
        if key not in self._shapes:
            self._shapes[key] = await self._remote_shape(models, path, size)
        remote = RemoteLauncher(
            rig.shell,
            recipe,
            python=self._python(plan, spec.engine),
            rig=plan.name,
            direct=plan.direct,
            load_limit_s=self._study.limits.load_s,
            files=files,
        )
        return remote, there, self._shapes[key]

    async def _remote_shape(self, models: RemoteModels, path: str, size: int) -> ModelShape | None:
        try:
            return read_gguf_head(await models.header(path), PurePosixPath(path).name, size)
        except (RigError, ModelError, TimeoutError):
            return None  # the engine will tell what is wrong with it

    def _predict(self, engine: RunningEngine, spec: LaunchSpec, shape: ModelShape) -> None:
        rig, wish = self._book.rig(spec.rig), wish_of(spec.roles)
        devices = rig.devices()
        if not devices:
            return
        placed = place(shape, wish, devices)
        engine.facts["placement"] = placed.plain()
        machine = rig.machine(spec.number("threads"))
        roomy = [replace(d, capacity_bytes=1 << 50) if not d.main else d for d in devices]
        # What it would reach with everything where the person thinks it is: a spill shows against this.
        hoped = placed_speed(shape, place(shape, wish, roomy), machine, rig.prior())
        if hoped is None:
            return
        facts: PredictedFacts = {"state": placed.state, "decode": hoped.value, "decode_low": hoped.low, "at": {}}
        rows = self._predicted()
        for cell in self._of_launch.get(spec, ()):
            row = rows.get(cell.key)
            if row is not None and row.decode is not None:
                at = row.decode.value, row.decode.low, row.decode.high
                facts["at"][depth_key(decode_depth(self._study, cell))] = at
        engine.facts["predicted"] = facts

    @cached_property
    def _of_launch(self) -> Mapping[LaunchSpec, Sequence[Cell]]:
        """The cells that each launch serves."""
        out: dict[LaunchSpec, list[Cell]] = defaultdict(list)
        for cell in self._study.cells:
            out[cell.launch].append(cell)
        return out

    async def close(self) -> None:
        """Let go of all rigs."""
        await self._end_sampler()
        await self._book.close()

    # telemetry
    async def _idle_watts(self, name: str | None) -> float | None:
        """Idle power before a rig's first engine; a person's wall-meter reading where nothing tells it."""
        plan = self._book.plan(name)
        found: float | None = None
        if plan.reach == "here":
            found = await asyncio.to_thread(lambda: idle_watts(Power()))
        elif plan.reach == "rehearsal" or plan.metrics:
            url = await self._metrics_url(plan.name)
            found = await asyncio.to_thread(scraped_idle_watts, url, Names(), IDLE_S) if url else None
        if found is None and "idle_w" in plan.typed:
            found = float(str(plan.typed["idle_w"].value))
        return found

    async def _metrics_url(self, name: str) -> str | None:
        plan = self._book.plan(name)
        if plan.metrics:
            return plan.metrics
        rig = self._book.adapter(name)
        try:
            return f"{await rig.address()}/metrics" if isinstance(rig, RehearsalRig) else None
        except RigError as error:
            raise EngineError(f"{name} did not start", why=str(error)) from error

    async def _watch_there(self, engine: RunningEngine, spec: LaunchSpec) -> None:
        plan = self._book.plan(spec.rig)
        await self._end_sampler()
        if plan.reach == "ssh" and engine.pid is not None:
            rig = self._book.adapter(plan.name)
            assert isinstance(rig, SshRig)
            sampler = await RemoteSampler.start(rig.shell, plan.python, engine.pid)
            engine.facts["clock_error_ms"] = sampler.error_ns / 1e6
            self._sampler = sampler
        self._metrics = None if plan.reach in {"here", "ssh"} else await self._metrics_url(plan.name)

    async def _end_sampler(self) -> None:
        sampler, self._sampler = self._sampler, None
        if sampler is not None:
            await sampler.close()

    def watch(self, engine: RunningEngine) -> Watch:
        """Sample an engine where it runs."""
        if self._sampler is not None:
            return self._sampler.watch()
        if self._metrics is not None:
            return ScrapeWatch(self._metrics, Names())
        if engine.pid is None and engine.recipe.metrics:
            return ScrapeWatch(engine.base_url.removesuffix("/v1") + engine.recipe.metrics, Names())
        return TreeWatch(engine.pid)

    async def machine_facts(self) -> RunFacts:
        """This machine's facts, with those of the study's other rigs under `rigs`.

        Raises:
            RigError: A rig cannot be reached.
        """
        await self._book.gather(self._book.plan(None).name)
        facts = self._book.facts_of(None)
        named = rigs_of(self._study)
        others: dict[str, MachineFacts] = {}
        for name in named:
            rig = await self._book.gather(name)
            if rig.trouble:
                raise RigError(f"{name} is not ready", why=rig.trouble)
            others[name] = self._book.facts_of(name)
        out = cast(RunFacts, {**facts, "simulated": any(f["simulated"] for f in others.values())})
        if others:
            out["rigs"] = others
        return out


def _shape(model: ModelFile) -> ModelShape | None:
    try:
        return read_gguf(model.path)
    except KettleError:
        return None  # the engine will tell what is wrong with it


def recipe_named(recipes: Mapping[str, Recipe], name: str) -> Recipe:
    """A recipe by its name.

    Raises:
        UsageError: There is none; a kept study may name one that is gone.
    """
    if name not in recipes:
        raise UsageError(f"there is no engine {name!r}", why="no recipe has that name", remedy=nearest(name, recipes))
    return recipes[name]


def sha256_of(path: Path) -> str:
    """The hash of a file; empty where it cannot be read."""
    try:
        with path.open("rb") as file:
            return hashlib.file_digest(file, "sha256").hexdigest()
    except OSError:
        return ""


def _sim_shape(spec: LaunchSpec) -> ModelShape | None:
    try:
        return sim_shape(spec.model, spec.quantization)
    except KeyError:
        return None
