"""Another machine over SSH: the person's own configuration, agent and known hosts; no password is asked for or kept."""

from __future__ import annotations

import asyncio
import contextlib
import json
import shlex
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from zinc_kettle.core.text import neutralise
from zinc_kettle.errors import RigError

if TYPE_CHECKING:
    import asyncssh

CONNECT_S = 15.0
FORWARD_S = 20.0
END_S = 3.0


def connect_options(ssh_config: str | None) -> dict[str, Any]:
    """What a connection is opened with: only keys and agent, and hosts that are known."""
    out: dict[str, Any] = {
        "connect_timeout": CONNECT_S,
        "login_timeout": CONNECT_S,
        "password_auth": False,
        "kbdint_auth": False,
        "keepalive_interval": 15,
    }
    own = Path("~/.ssh/config").expanduser()
    if ssh_config:
        out["config"] = [str(Path(ssh_config).expanduser())]
    elif own.is_file():
        out["config"] = [str(own)]
    return out


async def connect(host: str, ssh_config: str | None) -> asyncssh.SSHClientConnection:
    """Open a connection.

    Raises:
        RigError: The host is unknown, unreachable, or takes none of the person's keys.
    """
    import asyncssh

    try:
        return await asyncio.wait_for(asyncssh.connect(host, **connect_options(ssh_config)), CONNECT_S + 5)
    except asyncssh.HostKeyNotVerifiable as error:
        raise RigError(
            f"the host key of {host} is not known",
            why=str(error),
            remedy=f"connect once with `ssh {host}` and check its key",
        ) from error
    except asyncssh.PermissionDenied as error:
        raise RigError(
            f"{host} accepts none of your keys",
            why=str(error),
            remedy=f"make sure `ssh {host}` work without a password: ssh-add",
        ) from error
    except (OSError, asyncssh.Error, TimeoutError, ValueError) as error:
        raise RigError(
            f"{host} cannot be reached over SSH",
            why=str(error) or "it did not answer in time",
            remedy=f"check `ssh {host}`",
        ) from error


async def end_child(process: asyncio.subprocess.Process) -> None:
    """End a process of ours by closing its input, and by force where it does not within a few seconds."""
    if process.stdin is not None:
        process.stdin.close()
    with contextlib.suppress(TimeoutError):
        await asyncio.wait_for(process.wait(), END_S)
    if process.returncode is None:
        process.kill()
        await process.wait()


class SshProcess:
    """A program on the other machine."""

    def __init__(self, process: asyncssh.SSHClientProcess[bytes]) -> None:
        self._process = process

    @property
    def returncode(self) -> int | None:
        """How it ended; None while it runs."""
        if self._process.is_closing() and self._process.returncode is None:
            return -1
        return self._process.returncode

    async def out_line(self) -> bytes:
        """The next line of its standard output."""
        return await self._line(self._process.stdout)

    async def error_line(self) -> bytes:
        """The next line of its standard error."""
        return await self._line(self._process.stderr)

    async def _line(self, reader: asyncssh.SSHReader[bytes]) -> bytes:
        import asyncssh

        try:
            return await reader.readline()
        except (asyncssh.Error, OSError):
            return b""

    def give(self, data: bytes) -> None:
        """Write to its standard input; nothing where that has closed."""
        with contextlib.suppress(OSError):
            self._process.stdin.write(data)

    def close_input(self) -> None:
        """Close its standard input."""
        with contextlib.suppress(OSError):
            self._process.stdin.write_eof()

    async def wait(self) -> None:
        """Until it has ended."""
        await self._process.wait_closed()


class SshShell:
    """Implements ports.Shell over one connection, which is opened when first needed."""

    def __init__(self, host: str, *, ssh_config: str | None = None) -> None:
        self.host = host
        self._config = ssh_config
        self._connection: asyncssh.SSHClientConnection | None = None
        self._lock = asyncio.Lock()
        self._tunnels: list[asyncio.subprocess.Process] = []

    async def connection(self) -> asyncssh.SSHClientConnection:
        """The open connection; opened again where it was lost."""
        async with self._lock:
            if self._connection is None or self._connection.is_closed():
                self._connection = await connect(self.host, self._config)
            return self._connection

    async def run(self, argv: Sequence[str], *, give: str = "", limit_s: float = 30.0) -> str:
        """Run a program to its end."""
        import asyncssh

        connection = await self.connection()
        try:
            done = await asyncio.wait_for(connection.run(shlex.join(argv), input=give), limit_s)
        except (asyncssh.Error, OSError, TimeoutError) as error:
            raise RigError(
                f"{argv[0]} on {self.host} did not end", why=str(error) or f"{limit_s:g} s have passed"
            ) from error
        if done.returncode != 0:
            said = neutralise(str(done.stderr or "").strip())[-300:]
            raise RigError(f"{argv[0]} on {self.host} failed", why=said or f"it ended with status {done.returncode}")
        return str(done.stdout or "")

    async def start(self, argv: Sequence[str], *, give: str = "") -> SshProcess:
        """Start a program and leave its input open."""
        import asyncssh

        connection = await self.connection()
        try:
            process = await asyncio.wait_for(connection.create_process(shlex.join(argv), encoding=None), CONNECT_S)
        except (asyncssh.Error, OSError, TimeoutError) as error:
            raise RigError(f"{argv[0]} on {self.host} cannot be started", why=str(error)) from error
        out = SshProcess(process)
        out.give(give.encode())
        return out

    async def files(self, folder: str) -> dict[str, int]:
        """Names and sizes of the files in a folder."""
        import asyncssh

        connection = await self.connection()
        try:
            async with asyncio.timeout(CONNECT_S), connection.start_sftp_client() as sftp:
                entries = await sftp.readdir(folder)
        except (asyncssh.Error, OSError, TimeoutError) as error:
            raise RigError(f"the folder {folder} on {self.host} cannot be listed", why=str(error)) from error
        return {str(e.filename): int(e.attrs.size or 0) for e in entries if str(e.filename) not in {".", ".."}}

    async def head(self, path: str, count: int) -> bytes:
        """The first bytes of a file."""
        import asyncssh

        connection = await self.connection()
        try:
            async with asyncio.timeout(120), connection.start_sftp_client() as sftp, sftp.open(path, "rb") as file:
                found = await file.read(count)
                return found if isinstance(found, bytes) else found.encode()
        except (asyncssh.Error, OSError, TimeoutError) as error:
            raise RigError(f"a file on {self.host} cannot be read", why=str(error)) from error

    async def forward(self, port: int) -> str:
        """Forward a port in a process of its own: in ours, the screen's drawing would delay what is measured.

        Raises:
            RigError: It did not come up.
        """
        # One engine at a time runs there: the way to the one before leads nowhere any more.
        await self._end_tunnels()
        process = await asyncio.create_subprocess_exec(
            sys.executable,
            "-m",
            "zinc_kettle.rigs.tunnel",
            stdin=asyncio.subprocess.PIPE,
            stdout=asyncio.subprocess.PIPE,
            stderr=asyncio.subprocess.DEVNULL,
        )
        self._tunnels.append(process)
        assert process.stdin is not None
        assert process.stdout is not None
        order = {"host": self.host, "config": self._config, "port": port}
        process.stdin.write(json.dumps(order).encode() + b"\n")
        try:
            line = await asyncio.wait_for(process.stdout.readline(), FORWARD_S)
            told = json.loads(line)
            return str(told["address"])
        except (TimeoutError, ValueError, KeyError) as error:
            raise RigError(f"a port of {self.host} cannot be forwarded", why=str(error)) from error

    async def close(self) -> None:
        """End tunnels and connection."""
        await self._end_tunnels()
        if self._connection is not None:
            self._connection.close()
            with contextlib.suppress(TimeoutError):
                await asyncio.wait_for(self._connection.wait_closed(), 3)
            self._connection = None

    async def _end_tunnels(self) -> None:
        for process in self._tunnels:
            await end_child(process)
        self._tunnels.clear()
