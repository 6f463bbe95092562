"""The launcher: a process that loads one model and serves it on 127.0.0.1, started as `-m zinc_kettle.engines.serve`.

It prints one JSON line when it begins to load (its own memory, to be subtracted) and one when it listens. It ends with
its parent: on Linux by the kernel's parent-death signal, which also works while the engine is loading and holds the
interpreter; everywhere, once loaded, when its standard input closes.
"""

from __future__ import annotations

import argparse
import contextlib
import ctypes
import json
import os
import signal
import sys
import time
from pathlib import Path

CACHE_TYPES = {"f32": "F32", "f16": "F16", "q8_0": "Q8_0", "q4_0": "Q4_0"}
LOAD_MODES = {"mapped": "MMAP", "copied": "NONE"}
_PR_SET_PDEATHSIG = 1


def parser() -> argparse.ArgumentParser:
    """The launcher's arguments."""
    p = argparse.ArgumentParser(prog="zinc-kettle engine launcher", description=__doc__)
    p.add_argument("--model", type=Path, required=True)
    p.add_argument("--threads", type=int)
    p.add_argument("--prefill-threads", type=int)
    p.add_argument("--context", type=int, required=True, help="tokens per slot")
    p.add_argument("--slots", type=int, default=1)
    p.add_argument("--batch", type=int, default=2048)
    p.add_argument("--micro-batch", type=int, default=512)
    p.add_argument("--cache-precision", choices=sorted(CACHE_TYPES), default="f16")
    p.add_argument("--prompt-cache", action="store_true")
    p.add_argument("--load-mode", choices=sorted(LOAD_MODES), default="mapped")
    p.add_argument("--port", type=int, default=0)
    p.add_argument("--host", default="127.0.0.1", help="address to listen on")
    p.add_argument("--device-layers", type=int, help="layers on fast devices; all by default")
    return p


def die_with_parent() -> None:
    """Ask the kernel for SIGKILL when the parent ends; nothing where there is no such thing."""
    if sys.platform != "linux":
        return
    parent = os.getppid()
    ctypes.CDLL(None, use_errno=True).prctl(_PR_SET_PDEATHSIG, signal.SIGKILL)
    if os.getppid() != parent or parent == 1:
        os._exit(1)


def be_first_victim() -> None:
    """Should memory run out, the system is to end the engine and not the tool that keeps the figures."""
    with contextlib.suppress(OSError):
        Path("/proc/self/oom_score_adj").write_text("1000")


def memory() -> dict[str, int]:
    """Resident memory of this process in bytes: all, anonymous, file-backed; empty where not told."""
    try:
        lines = Path("/proc/self/status").read_text().splitlines()
    except OSError:
        return {}
    found = dict(line.split(":", 1) for line in lines if ":" in line)
    names = {"resident": "VmRSS", "anonymous": "RssAnon", "file": "RssFile"}
    return {ours: int(found[theirs].split()[0]) * 1024 for ours, theirs in names.items() if theirs in found}


def say(event: str, **fields: object) -> None:
    """One JSON line to the tool."""
    sys.stdout.write(json.dumps({"event": event, **fields}) + "\n")
    sys.stdout.flush()


def main(argv: list[str] | None = None) -> None:
    """Load, listen, and wait for standard input to close."""
    die_with_parent()
    be_first_victim()
    arguments = parser().parse_args(argv)
    try:
        import xllamacpp
    except ImportError:
        sys.stderr.write("the engine package is not installed; try: make setup\n")
        os._exit(3)
    params = _params(xllamacpp, arguments)
    say("loading", pid=os.getpid(), memory=memory(), version=xllamacpp.__version__, build=_build(xllamacpp))
    start = time.monotonic_ns()
    try:
        server = xllamacpp.Server(params)
    except RuntimeError as error:
        sys.stderr.write(f"{error}\n")
        sys.stderr.flush()
        os._exit(4)
    say("ready", address=server.listening_address, load_ns=time.monotonic_ns() - start, memory=memory())
    while sys.stdin.buffer.read(4096):
        pass
    # Open streams would hold a polite shutdown up for as long as their clients like.
    os._exit(0)


def _build(package: object) -> str:
    return str(package.get_system_info()).strip()  # type: ignore[attr-defined]


def _params(x: object, a: argparse.Namespace) -> object:
    """Translate our settings; fields whose default would spoil a measurement are set here, with the reason."""
    p = x.CommonParams()  # type: ignore[attr-defined]
    p.model.path = str(a.model)
    p.hostnames = [a.host]
    p.port = a.port
    p.n_ctx = a.context * a.slots  # the engine divides its context by the slots
    p.n_parallel = a.slots
    p.n_batch, p.n_ubatch = a.batch, min(a.batch, a.micro_batch)
    if a.threads is not None:
        p.cpuparams.n_threads = a.threads
    if a.prefill_threads is not None or a.threads is not None:
        p.cpuparams_batch.n_threads = a.prefill_threads or a.threads
    kind = getattr(x.ggml_type, f"GGML_TYPE_{CACHE_TYPES[a.cache_precision]}")  # type: ignore[attr-defined]
    p.cache_type_k = p.cache_type_v = kind
    p.load_mode = getattr(x.llama_load_mode, f"LLAMA_LOAD_MODE_{LOAD_MODES[a.load_mode]}")  # type: ignore[attr-defined]
    p.cache_prompt = a.prompt_cache
    p.cache_ram_mib = 0  # saved prompts would grow the memory we measure
    p.cache_idle_slots = False
    if a.device_layers is not None:
        p.n_gpu_layers = a.device_layers
    p.fit_params = False  # it would shrink settings without a word
    p.verbosity = 1
    return p


if __name__ == "__main__":
    main()
