"""Test hosts for SSH: real OpenSSH servers, each in a network namespace of its own, or on loopback where those are not
to be had. Everything is made by the test and ended by it."""

from __future__ import annotations

import contextlib
import getpass
import os
import shutil
import socket
import subprocess
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

SSHD = shutil.which("sshd") or "/usr/sbin/sshd"
DELAY_MS = 4
"""Added to each way of the second host's network, where the kernel can."""


@dataclass
class Host:
    """One test host."""

    name: str
    address: str
    port: int
    namespace: str | None
    config: Path
    """An ssh configuration that knows it, its key and its host key."""
    delayed: bool = False


def _run(*line: str) -> bool:
    return subprocess.run(line, capture_output=True, check=False, timeout=20).returncode == 0


def _namespace(index: int) -> tuple[str, str] | None:
    """A namespace with one address that can be reached from here; None where that is not allowed."""
    name = f"zk{os.getpid()}-{index}"
    here, there = f"10.213.{index}.1", f"10.213.{index}.2"
    if os.geteuid() != 0 or shutil.which("ip") is None or not _run("ip", "netns", "add", name):
        return None
    outer, inner = f"zk{index}o{os.getpid() % 100000}", f"zk{index}i{os.getpid() % 100000}"
    steps = (
        ("ip", "link", "add", outer, "type", "veth", "peer", "name", inner),
        ("ip", "link", "set", inner, "netns", name),
        ("ip", "addr", "add", f"{here}/30", "dev", outer),
        ("ip", "link", "set", outer, "up"),
        ("ip", "netns", "exec", name, "ip", "addr", "add", f"{there}/30", "dev", inner),
        ("ip", "netns", "exec", name, "ip", "link", "set", inner, "up"),
        ("ip", "netns", "exec", name, "ip", "link", "set", "lo", "up"),
    )
    if not all(_run(*step) for step in steps):
        _run("ip", "netns", "del", name)
        return None
    return name, there


def _free_port() -> int:
    with socket.socket() as s:
        s.bind(("127.0.0.1", 0))
        return int(s.getsockname()[1])


def _wait(address: str, port: int) -> None:
    for _ in range(100):
        with contextlib.suppress(OSError), socket.create_connection((address, port), timeout=1):
            return
        time.sleep(0.05)
    raise RuntimeError(f"no server at {address}:{port}")


@contextlib.contextmanager
def ssh_hosts(folder: Path, names: list[str], *, known: bool = True) -> Iterator[list[Host]]:
    """Start one SSH server a name; each accepts only a key made here.

    Args:
        folder: Where keys and configurations go.
        names: Names of the hosts in the ssh configuration.
        known: False leaves the host keys out of the known hosts.
    """
    folder.mkdir(parents=True, exist_ok=True)
    Path("/run/sshd").mkdir(exist_ok=True)
    for key in ("host", "user"):
        subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(folder / key)], check=True)
    hosts, servers, spaces, lines, trusted = [], [], [], [], []
    try:
        for index, name in enumerate(names, start=1):
            space = _namespace(index)
            port = 2222 if space else _free_port()
            address = space[1] if space else "127.0.0.1"
            delayed = False
            if space:
                spaces.append(space[0])
                if index == 2:
                    device = f"zk{index}i{os.getpid() % 100000}"
                    shape = ("tc", "qdisc", "add", "dev", device, "root", "netem", "delay", f"{DELAY_MS}ms")
                    delayed = _run("ip", "netns", "exec", space[0], *shape)
            settings = folder / f"sshd-{name}"
            settings.write_text(
                f"ListenAddress {address}\nPort {port}\nHostKey {folder / 'host'}\nPidFile none\nUsePAM no\n"
                f"AuthorizedKeysFile {folder / 'user.pub'}\nStrictModes no\nPasswordAuthentication no\n"
                "PermitRootLogin prohibit-password\nSubsystem sftp internal-sftp\n"
            )
            line = [SSHD, "-D", "-f", str(settings)]
            if space:
                line = ["ip", "netns", "exec", space[0], *line]
            servers.append(subprocess.Popen(line, stderr=subprocess.DEVNULL))
            _wait(address, port)
            where = address if port == 22 else f"[{address}]:{port}"
            trusted.append(f"{where} {(folder / 'host.pub').read_text().strip()}")
            lines.append(
                f"Host {name}\n  HostName {address}\n  Port {port}\n  User {getpass.getuser()}\n"
                f"  IdentityFile {folder / 'user'}\n  IdentitiesOnly yes\n  UserKnownHostsFile {folder / 'known'}\n"
            )
            hosts.append(Host(name, address, port, space[0] if space else None, folder / "config", delayed))
        (folder / "known").write_text("\n".join(trusted) + "\n" if known else "")
        (folder / "config").write_text("".join(lines))
        yield hosts
    finally:
        for server in servers:
            server.terminate()
            server.wait(timeout=10)
        for namespace in spaces:
            _run("ip", "netns", "del", namespace)
