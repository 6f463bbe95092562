"""Which process of this machine answers at an address, so that it can be watched as one that was started here."""

from __future__ import annotations

import ipaddress
from urllib.parse import urlsplit

import psutil

PORTS = {"http": 80, "https": 443}


def process_at(url: str) -> int | None:
    """The process that listens at an address of this machine; None for another machine, and where the system does not
    tell whose port it is."""
    parts = urlsplit(url)
    if not parts.hostname or not _is_here(parts.hostname):
        return None
    port = parts.port or PORTS.get(parts.scheme)
    try:
        there = psutil.net_connections(kind="tcp")
    except (psutil.Error, OSError):
        return None
    found = {c.pid for c in there if c.status == psutil.CONN_LISTEN and c.laddr and c.laddr.port == port and c.pid}
    # Several processes may share a port, and a parent and its children often do: the oldest of them has the others.
    return min(found, key=_begun, default=None)


def _is_here(host: str) -> bool:
    try:
        return host == "localhost" or ipaddress.ip_address(host).is_loopback
    except ValueError:
        return False


def _begun(pid: int) -> float:
    try:
        return float(psutil.Process(pid).create_time())
    except psutil.Error:
        return float("inf")


def resident_bytes(pid: int) -> int | None:
    """What a process and all it started hold in memory; None where it has ended."""
    try:
        root = psutil.Process(pid)
        return sum(int(p.memory_info().rss) for p in (root, *root.children(recursive=True)))
    except psutil.Error:
        return None
