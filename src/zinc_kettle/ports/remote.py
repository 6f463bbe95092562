"""Other machines: programs and files there."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol


class RemoteProcess(Protocol):
    """A program running on another machine; bytes in and out."""

    @property
    def returncode(self) -> int | None:
        """How it ended; None while it runs."""
        ...

    async def out_line(self) -> bytes:
        """The next line of its standard output; empty at its end."""
        ...

    async def error_line(self) -> bytes:
        """The next line of its standard error; empty at its end."""
        ...

    def give(self, data: bytes) -> None:
        """Write to its standard input."""
        ...

    def close_input(self) -> None:
        """Close its standard input."""
        ...

    async def wait(self) -> None:
        """Until it has ended."""
        ...


class Shell(Protocol):
    """What can be done on another machine. Everything has a limit in time, and raises RigError."""

    async def run(self, argv: Sequence[str], *, give: str = "", limit_s: float = 30.0) -> str:
        """Run a program to its end and return what it printed."""
        ...

    async def start(self, argv: Sequence[str], *, give: str = "") -> RemoteProcess:
        """Start a program and leave its input open after `give`."""
        ...

    async def files(self, folder: str) -> dict[str, int]:
        """Names and sizes of the files in a folder."""
        ...

    async def head(self, path: str, count: int) -> bytes:
        """The first bytes of a file."""
        ...

    async def forward(self, port: int) -> str:
        """An address on this machine that leads to a port of 127.0.0.1 there, through a process of its own."""
        ...
