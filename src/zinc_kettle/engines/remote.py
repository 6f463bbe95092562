"""Starts our launcher on another machine: its text is sent there, so that only the engine's package need be there."""

from __future__ import annotations

import asyncio
import contextlib
import io
import re
import signal
from collections.abc import Mapping
from urllib.parse import urlsplit

from zinc_kettle.core.plan.recipe import Recipe, environment
from zinc_kettle.core.plan.study import LaunchSpec
from zinc_kettle.core.record.telemetry import Launch
from zinc_kettle.engines.launcher import LaunchedEngine
from zinc_kettle.engines.launchers import text_of
from zinc_kettle.engines.line import launch_line, shown_line
from zinc_kettle.errors import EngineError, RigError
from zinc_kettle.ports.models import ModelFile
from zinc_kettle.ports.remote import Shell
from zinc_kettle.wire.boot import BOOT, given

HASH_LIMIT_S = 600.0
HASH = re.compile(r"[0-9a-f]{64}$")


class RemoteLauncher:
    """Starts engines on another machine.

    Args:
        shell: Runs commands there.
        recipe: How an engine is started.
        python: Interpreter there that has the engine.
        rig: Name of the rig.
        direct: Address to reach the engine at; None for a forwarded port.
        load_limit_s: Limit of a load, in seconds.
        files: Paths there of further models that settings name, by the setting.
    """

    def __init__(
        self,
        shell: Shell,
        recipe: Recipe,
        *,
        python: str,
        rig: str,
        direct: str | None = None,
        load_limit_s: float = 300.0,
        files: Mapping[str, str] | None = None,
    ) -> None:
        self._shell = shell
        self._recipe = recipe
        self._files = files or {}
        self._python = python
        self._rig = rig
        self._direct = direct
        self._load_limit_s = load_limit_s

    async def start(self, spec: LaunchSpec, model: ModelFile | None, *, launch_id: str) -> LaunchedEngine:
        """Start one there and wait until it answers; see ports.Engines."""
        start = self._recipe.start
        if model is None or start is None or not start.launcher:
            raise EngineError(
                f"{spec.engine} cannot be started on {self._rig}",
                why="over SSH only engines behind a launcher of ours can be started, with a model file there",
                remedy='start it there yourself, and reach it with reach = "url"',
            )
        line = launch_line(
            self._recipe,
            {**spec.levels, **self._files},
            model=model.path.as_posix(),
            port=0,
            python=self._python,
            launcher=start.launcher,
        )
        arguments = line[line.index(start.launcher) + 1 :]
        if self._direct:
            arguments += ["--host", self._direct]
        source = text_of(start.launcher)
        try:
            variables = {**start.environment, **environment(self._recipe.engine, spec.levels)}
            first = ["env", *(f"{name}={value}" for name, value in variables.items())] if variables else []
            process = await self._shell.start([*first, self._python, "-c", BOOT, *arguments], give=given(source))
        except RigError as error:
            raise EngineError(f"the engine on {self._rig} did not start", why=str(error)) from error
        engine: LaunchedEngine

        async def signal_it(number: int) -> None:
            if engine.pid is not None:
                name = signal.Signals(number).name.removeprefix("SIG")
                # An error means that it has ended meanwhile, or that the connection has, which ends it too.
                with contextlib.suppress(RigError):
                    await self._shell.run(["kill", f"-{name}", str(engine.pid)], limit_s=5.0)

        engine = LaunchedEngine(process, signal_it, self._recipe, start, spec, model)
        engine.launch = Launch(launch_id, None, None)
        await engine.get_ready(launch_id, self._load_limit_s, self._reach)
        engine.facts["recipe"] = self._recipe.name
        engine.facts["launch_line"] = shown_line(line)
        engine.facts["reached"] = "directly" if self._direct else "through a forwarded port"
        return engine

    async def close(self) -> None:
        """The connection belongs to the rig."""

    async def _reach(self, address: str) -> str:
        port = urlsplit(address).port
        if port is None:
            raise EngineError(f"the engine on {self._rig} did not report its port")
        if self._direct:
            return f"http://{self._direct}:{port}"
        try:
            return await self._shell.forward(port)
        except RigError as error:
            raise EngineError(f"the engine's port on {self._rig} cannot be reached", why=str(error)) from error


class RemoteModels:
    """Model files in a folder of another machine."""

    HEAD_BYTES = 24 << 20
    """Enough for the header of any model; smaller files are read whole."""

    def __init__(self, shell: Shell, folder: str, rig: str) -> None:
        self._shell, self._folder, self._rig = shell, folder.rstrip("/"), rig
        self._files: dict[str, int] | None = None

    async def find(self, model: str, quantization: str | None) -> tuple[str, int]:
        """Path and size of a model there.

        Raises:
            EngineError: It is not there.
        """
        if self._files is None:
            try:
                self._files = await self._shell.files(self._folder)
            except RigError as error:
                raise EngineError(f"the model folder on {self._rig} cannot be read", why=str(error)) from error
        plain = f"{model}.{quantization}.gguf" if quantization else f"{model}.gguf"
        names = [model, plain] if model.endswith(".gguf") else [plain, f"{model}-{quantization}.gguf"]
        for name in names:
            if name in self._files:
                return f"{self._folder}/{name}", self._files[name]
        raise EngineError(
            f"{self._rig} has no {plain}",
            why="its model folder does not contain it",
            remedy="copy the file there, or set another folder in the rig file",
        )

    async def sha256(self, path: str, python: str) -> str:
        """The hash of a file there; empty where it cannot be had."""
        code = "import hashlib,sys;h=hashlib.sha256();f=open(sys.argv[1],'rb')\nwhile b:=f.read(1<<20):h.update(b)"
        try:
            found = await self._shell.run([python, "-c", f"{code}\nprint(h.hexdigest())", path], limit_s=HASH_LIMIT_S)
        except RigError:
            return ""
        return found.strip() if HASH.match(found.strip()) else ""

    async def header(self, path: str) -> io.BytesIO:
        """The beginning of a file there."""
        return io.BytesIO(await asyncio.wait_for(self._shell.head(path, self.HEAD_BYTES), 120))
