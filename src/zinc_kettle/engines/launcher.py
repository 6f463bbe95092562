"""Starts an engine's program, waits until it answers, keeps its last words, and always ends it."""

from __future__ import annotations

import asyncio
import contextlib
import ctypes
import json
import os
import signal
import socket
import sys
import time
from collections import deque
from collections.abc import Awaitable, Callable, Mapping, Sequence
from functools import partial
from pathlib import Path
from typing import Any

from zinc_kettle.core.facts import EngineFacts
from zinc_kettle.core.plan.recipe import Recipe, Start, environment
from zinc_kettle.core.plan.study import LaunchSpec
from zinc_kettle.core.record.telemetry import Launch
from zinc_kettle.core.text import neutralise, shorten
from zinc_kettle.engines.environment import inherited
from zinc_kettle.engines.filecache import cached_share
from zinc_kettle.engines.introspection import count_tokens, told_facts
from zinc_kettle.engines.launchers import path_of
from zinc_kettle.engines.line import launch_line, shown_line
from zinc_kettle.engines.orphans import Orphans
from zinc_kettle.engines.roundtrip import round_trip_s
from zinc_kettle.errors import EngineError
from zinc_kettle.ports.models import ModelFile
from zinc_kettle.ports.remote import RemoteProcess
from zinc_kettle.wire.messages import ChatMessage

KILLED_S = 2.0
"""Time the system has to be rid of a killed process."""
LAST_WORDS_S = 0.2
"""What a program said last may come a moment after its end."""
KEPT_LINES = 40
LINE_WIDTH = 400
DIE_WITH_PARENT = (1, signal.SIGTERM if sys.platform == "win32" else signal.SIGKILL)
"""prctl(PR_SET_PDEATHSIG, …): the kernel ends it when the tool ends."""
SIGNALS = {"TERM": signal.SIGTERM, "INT": signal.SIGINT}


class LocalProcess:
    """A process group of this machine, with the face that a program on another machine has too."""

    def __init__(self, process: asyncio.subprocess.Process, leftovers: Orphans | None = None) -> None:
        assert process.stdin is not None
        assert process.stdout is not None
        assert process.stderr is not None
        self._process = process
        self._leftovers = leftovers
        self._in, self._out, self._error = process.stdin, process.stdout, process.stderr

    @property
    def returncode(self) -> int | None:
        """How it ended; None while it runs."""
        return self._process.returncode

    async def out_line(self) -> bytes:
        """The next line of its standard output."""
        return await self._out.readline()

    async def error_line(self) -> bytes:
        """The next line of its standard error."""
        return await self._error.readline()

    def give(self, data: bytes) -> None:
        """Write to its standard input."""
        self._in.write(data)

    def close_input(self) -> None:
        """Close its standard input."""
        self._in.close()

    async def wait(self) -> None:
        """Until it has ended."""
        await self._process.wait()
        if self._leftovers is not None:
            self._leftovers.forget(self._process.pid)

    async def signal(self, number: int) -> None:
        """Signal its whole group."""
        with contextlib.suppress(ProcessLookupError, PermissionError):
            if sys.platform == "win32":
                self._process.send_signal(number)
            else:
                os.killpg(self._process.pid, number)


class LaunchedEngine:
    """An engine we started, running here or on another machine.

    Args:
        process: Its program's.
        signal_it: Sends a signal to its group.
        recipe: Its recipe.
        start: The part of it that started it.
        spec: What it was started with.
        model: The file it serves.
    """

    def __init__(
        self,
        process: RemoteProcess,
        signal_it: Callable[[int], Awaitable[None]],
        recipe: Recipe,
        start: Start,
        spec: LaunchSpec,
        model: ModelFile,
    ) -> None:
        self._process = process
        self._signal = signal_it
        self.spec = spec
        self._start = start
        self._model = model
        self._words: deque[str] = deque(maxlen=KEPT_LINES)
        self._readers: list[asyncio.Task[None]] = []
        self.recipe = recipe
        self.base_url = ""
        self.model_name = model.name
        self.key_variable: str | None = None
        self.key_file: str | None = None
        self.ca_file: str | None = None
        self.pid: int | None = None
        self.rig = spec.rig
        self.launch = Launch("", None, None)
        self.facts: EngineFacts = {}

    def alive(self) -> bool:
        """False once its process has ended."""
        return self._process.returncode is None

    def last_words(self) -> str:
        """Its last lines, cleaned."""
        return "\n".join(self._words)

    async def count_tokens(self, messages: Sequence[ChatMessage]) -> int | None:
        """Ask it to apply its template and to count; None where it will not."""
        return await count_tokens(self.recipe.count, self.base_url, messages)

    async def round_trip_s(self) -> float | None:
        """Shortest time of a tiny request to it and back."""
        return await round_trip_s(self.base_url)

    async def look_again(self) -> None:
        """What we started stays what it is."""

    async def stop(self) -> None:
        """Close its input, then end its whole process group: as its recipe says, and after its grace by force."""
        self._process.close_input()
        if self.alive():
            await self._signal(SIGNALS[self._start.stop])
            with contextlib.suppress(TimeoutError):
                await asyncio.wait_for(self._process.wait(), self._start.grace_s)
        if self.alive():
            await self._signal(getattr(signal, "SIGKILL", signal.SIGTERM))
            with contextlib.suppress(TimeoutError):
                await asyncio.wait_for(self._process.wait(), KILLED_S)
        for reader in self._readers:
            reader.cancel()
        await asyncio.gather(*self._readers, return_exceptions=True)

    # start-up
    async def get_ready(
        self, launch_id: str, limit_s: float, reach: Callable[[str], Awaitable[str]] | None = None
    ) -> None:
        """Wait until it answers; `reach` turns the address it listens on into one that leads there from here.

        Raises:
            EngineError: It did not get ready; it has been ended.
        """
        self._readers.append(asyncio.create_task(self._keep_words()))
        try:
            async with asyncio.timeout(limit_s):
                if self._start.launcher:
                    await self._events(launch_id)
                else:
                    self._readers.append(asyncio.create_task(self._drain()))
                if reach is not None:
                    self.base_url = await reach(self.base_url)
                await self._answers()
                self.facts = {**self.facts, **await told_facts(self.recipe, self.base_url)}
        except TimeoutError as error:
            await self.stop()
            raise EngineError(
                f"the engine was not ready within {limit_s:g} s",
                remedy="raise limits.load_s, or choose a smaller model or context",
                last_words=self.last_words(),
            ) from error
        except BaseException:
            await self.stop()
            raise

    async def _keep_words(self) -> None:
        while True:
            try:
                line = await self._process.error_line()
            except ValueError:  # a line longer than the reader's limit
                continue
            if not line:
                return
            text = neutralise(line.decode("utf-8", "replace").rstrip("\n"), keep_newlines=False)
            self._words.append(shorten(text.replace(self._model.path.as_posix(), self._model.path.name), LINE_WIDTH))

    async def _events(self, launch_id: str) -> None:
        """Read the launcher's two lines; fills in address, load time and memory.

        Raises:
            EngineError: It ended before it listened.
        """
        baseline = 0
        while line := await self._process.out_line():
            try:
                event = json.loads(line)
            except ValueError:
                continue
            memory = event.get("memory", {})
            if event.get("event") == "loading":
                self.pid, baseline = event["pid"], memory.get("resident", 0)
                self.facts = {"engine": event["engine"], "version": event["version"], "build": event["build"]}
            elif event.get("event") == "ready":
                self._ready(event, launch_id, baseline)
                # Its standard output is not used any more, but must not fill up either.
                self._readers.append(asyncio.create_task(self._drain()))
                return
        await self._process.wait()
        await asyncio.gather(*self._readers, return_exceptions=True)
        raise EngineError(
            "the engine did not start",
            why=self._cause(),
            remedy="read its last output; smaller settings or another file may help",
            last_words=self.last_words(),
        )

    def _cause(self) -> str:
        if self._process.returncode == -signal.SIGKILL:
            return "the system killed it, usually because memory ran out"
        telling = [w for w in self._words if any(word in w.lower() for word in self._start.failed)]
        return (telling or [*self._words] or [f"it ended with status {self._process.returncode}"])[0]

    def _ready(self, event: dict[str, Any], launch_id: str, baseline: int) -> None:
        memory = event["memory"]
        resident = memory.get("resident")
        self.base_url = event["address"]
        self.launch = Launch(
            launch_id=launch_id,
            load_ns=event["load_ns"],
            file_cached_share=self.launch.file_cached_share,
            baseline_bytes=baseline,
            loaded_bytes=None if resident is None else resident - baseline,
            loaded_anonymous_bytes=memory.get("anonymous"),
            loaded_file_bytes=memory.get("file"),
        )

    async def _drain(self) -> None:
        while await self._process.out_line():
            pass

    async def _answers(self) -> None:
        """Wait until its health check says it is ready."""
        import httpx

        async with httpx.AsyncClient(base_url=self.base_url, timeout=5.0, trust_env=False) as http:
            while True:
                with contextlib.suppress(httpx.HTTPError):
                    if (await http.get(self._start.ready)).status_code == 200:
                        return
                if not self.alive():
                    await asyncio.sleep(LAST_WORDS_S)
                    raise EngineError(
                        "the engine ended while getting ready", why=self._cause(), last_words=self.last_words()
                    )
                await asyncio.sleep(0.02)


class Launcher:
    """Starts engines of one recipe on this machine.

    Args:
        recipe: How.
        python: The Python the engine lives in; the tool's own where empty.
        load_limit_s: Limit of a load, in seconds.
        leftovers: Notes engines that must not outlive the tool; None notes none.
        files: Paths of further models that settings name, by the setting.
    """

    def __init__(
        self,
        recipe: Recipe,
        *,
        python: str = "",
        load_limit_s: float = 300.0,
        leftovers: Orphans | None = None,
        files: Mapping[str, Path] | None = None,
    ) -> None:
        self._recipe = recipe
        self._python = python or sys.executable
        self._load_limit_s = load_limit_s
        self._leftovers = leftovers
        self._files = {name: path.as_posix() for name, path in (files or {}).items()}

    async def start(self, spec: LaunchSpec, model: ModelFile | None, *, launch_id: str) -> LaunchedEngine:
        """Start one and wait until it answers; see ports.Engines."""
        start = self._recipe.start
        if model is None or start is None:
            raise EngineError(f"{spec.engine} cannot be started without a model file and a recipe that starts it")
        port = 0 if start.launcher else _free_port()
        line = launch_line(
            self._recipe,
            {**spec.levels, **self._files},
            model=model.path.as_posix(),
            port=port,
            python=self._python,
            launcher=path_of(start.launcher).as_posix() if start.launcher else "",
        )
        try:
            share = await asyncio.to_thread(cached_share, model.path)
        except OSError as error:
            raise EngineError(f"the model file {model.path.name} cannot be read", why=str(error.strerror)) from error
        process, began_ns = await self._spawn(line, start, spec), time.monotonic_ns()
        if self._leftovers is not None:
            self._leftovers.note(process.pid)
        local = LocalProcess(process, self._leftovers)
        engine = LaunchedEngine(local, local.signal, self._recipe, start, spec, model)
        engine.launch = Launch(launch_id, None, share)
        if port:
            engine.base_url, engine.pid = f"http://127.0.0.1:{port}", process.pid
        await engine.get_ready(launch_id, self._load_limit_s)
        if port:
            engine.launch = Launch(launch_id, time.monotonic_ns() - began_ns, share)
        engine.facts["recipe"] = self._recipe.name
        engine.facts["launch_line"] = shown_line(line)
        return engine

    async def _spawn(self, line: Sequence[str], start: Start, spec: LaunchSpec) -> asyncio.subprocess.Process:
        # Our launchers see to it themselves that they end with the tool.
        foreign = not start.launcher and sys.platform == "linux"
        ended_with_us = partial(ctypes.CDLL(None).prctl, *DIE_WITH_PARENT) if foreign else None
        variables = {
            **inherited(os.environ, start.inherit),
            **start.environment,
            **environment(self._recipe.engine, spec.levels),
        }
        try:
            # Started from this thread on purpose: the parent-death signal is sent when the starting thread ends.
            return await asyncio.create_subprocess_exec(
                *line,
                stdin=asyncio.subprocess.PIPE,
                stdout=asyncio.subprocess.PIPE,
                stderr=asyncio.subprocess.PIPE,
                start_new_session=sys.platform != "win32",
                env=variables,
                preexec_fn=ended_with_us,
            )
        except OSError as error:
            raise EngineError(
                f"{spec.engine} cannot be started",
                why=f"{line[0]}: {error.strerror}",
                remedy="check argv and python in its recipe",
            ) from error

    async def close(self) -> None:
        """Nothing to let go of."""


def _free_port() -> int:
    """A port nobody listens on now; for programs that cannot choose one and say which."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])
