"""Starts the launcher, waits until it answers, keeps its last words, and always ends it."""

from __future__ import annotations

import asyncio
import contextlib
import json
import os
import signal
import sys
from collections import deque
from collections.abc import Awaitable, Callable, Sequence
from typing import TYPE_CHECKING, Any

from zinc_kettle.core.facts import EngineFacts
from zinc_kettle.core.plan import LaunchSettings
from zinc_kettle.core.telemetry import Launch
from zinc_kettle.core.text import neutralise, shorten
from zinc_kettle.engines.filecache import cached_share
from zinc_kettle.engines.leftovers import Leftovers
from zinc_kettle.engines.recipe import launch_line, request_extras, shown_line
from zinc_kettle.engines.roundtrip import round_trip_s
from zinc_kettle.errors import EngineError
from zinc_kettle.ports.models import ModelFile
from zinc_kettle.ports.remote import RemoteProcess
from zinc_kettle.wire.messages import ChatMessage

if TYPE_CHECKING:
    import httpx

GRACE_S = 2.0
"""Time an engine has to end by itself; then it is killed, so that stopping never takes five seconds."""
KEPT_LINES = 40
LINE_WIDTH = 400
HTTP_LIMIT_S = 30.0


class LocalProcess:
    """A process group of this machine, with the face that a program on another machine has too."""

    def __init__(self, process: asyncio.subprocess.Process, leftovers: Leftovers | None = None) -> None:
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
    """An engine of ours, running here or on another machine.

    Args:
        process: The launcher's.
        signal_it: Sends a signal to its group.
        settings: What it was started with.
        model: The file it serves.
    """

    def __init__(
        self,
        process: RemoteProcess,
        signal_it: Callable[[int], Awaitable[None]],
        settings: LaunchSettings,
        model: ModelFile,
    ) -> None:
        self._process = process
        self._signal = signal_it
        self._settings = settings
        self._model = model
        self._words: deque[str] = deque(maxlen=KEPT_LINES)
        self._readers: list[asyncio.Task[None]] = []
        self._http: httpx.AsyncClient | None = None
        self.base_url = ""
        self.model_name = model.name
        self.key_variable: str | None = None
        self.key_file: str | None = None
        self.ca_file: str | None = None
        self.pid: int | None = None
        self.rig = settings.rig
        self.launch = Launch("", None, None)
        self.facts: EngineFacts = {}

    def alive(self) -> bool:
        """False once its process has ended."""
        return self._process.returncode is None

    def last_words(self) -> str:
        """Its last lines, cleaned."""
        return "\n".join(self._words)

    def extras(self) -> dict[str, Any]:
        """Fields of its recipe."""
        return request_extras(self._settings)

    async def count_tokens(self, messages: Sequence[ChatMessage]) -> int | None:
        """Ask it to apply its template and to count; None where it will not."""
        import httpx

        if self._http is None:
            self._http = httpx.AsyncClient(base_url=self.base_url, timeout=HTTP_LIMIT_S, trust_env=False)
        turns = [{"role": m.role, "content": m.content} for m in messages]
        try:
            answer = await self._http.post("/apply-template", json={"messages": turns})
            prompt = answer.raise_for_status().json()["prompt"]
            body = {"content": prompt, "add_special": True, "parse_special": True}
            answer = await self._http.post("/tokenize", json=body)
            return len(answer.raise_for_status().json()["tokens"])
        except (httpx.HTTPError, ValueError, KeyError, TypeError):
            return None

    async def round_trip_s(self) -> float | None:
        """Shortest time of a tiny request to it and back."""
        return await round_trip_s(self.base_url)

    async def stop(self) -> None:
        """Close its input, then end its whole process group: politely, and after GRACE_S by force."""
        if self._http is not None:
            await self._http.aclose()
        self._process.close_input()
        if self.alive():
            await self._signal(signal.SIGTERM)
            with contextlib.suppress(TimeoutError):
                await asyncio.wait_for(self._process.wait(), GRACE_S)
        if self.alive():
            await self._signal(getattr(signal, "SIGKILL", signal.SIGTERM))
            with contextlib.suppress(TimeoutError):
                await asyncio.wait_for(self._process.wait(), GRACE_S)
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
                await self._events(launch_id)
                if reach is not None:
                    self.base_url = await reach(self.base_url)
                await self._answers()
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
                self.facts = {"engine": "xllamacpp", "version": event["version"], "build": event["build"]}
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
        telling = [w for w in self._words if "error" in w.lower() or "failed" in w.lower()]
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
                    if (await http.get("/health")).status_code == 200:
                        return
                if not self.alive():
                    raise EngineError("the engine ended while getting ready", last_words=self.last_words())
                await asyncio.sleep(0.02)


class Launcher:
    """Starts engines of the package in the extra `engine`."""

    def __init__(self, *, load_limit_s: float = 300.0, leftovers: Leftovers | None = None) -> None:
        self._load_limit_s = load_limit_s
        self._leftovers = leftovers

    async def start(self, settings: LaunchSettings, model: ModelFile | None, *, launch_id: str) -> LaunchedEngine:
        """Start one and wait until it answers; see ports.Engines."""
        if model is None:
            raise EngineError("an engine cannot be started without a model file")
        line = launch_line(settings, model)
        try:
            share = await asyncio.to_thread(cached_share, model.path)
        except OSError as error:
            raise EngineError(f"the model file {model.path.name} cannot be read", why=str(error.strerror)) from error
        # Started from this thread on purpose: the parent-death signal is sent when the starting thread ends.
        process = await asyncio.create_subprocess_exec(
            *line,
            stdin=asyncio.subprocess.PIPE,
            stdout=asyncio.subprocess.PIPE,
            stderr=asyncio.subprocess.PIPE,
            start_new_session=sys.platform != "win32",
        )
        if self._leftovers is not None:
            self._leftovers.note(process.pid)
        local = LocalProcess(process, self._leftovers)
        engine = LaunchedEngine(local, local.signal, settings, model)
        engine.launch = Launch(launch_id, None, share)
        await engine.get_ready(launch_id, self._load_limit_s)
        engine.facts["launch_line"] = shown_line(line, model)
        return engine

    async def close(self) -> None:
        """Nothing to let go of."""
