"""Our launchers: programs that load one model into an engine's package and serve it on 127.0.0.1.

Each runs in the Python its engine is installed in, here or elsewhere, so that it needs nothing but that package and the
standard library, of Python 3.10 or newer; `launcher_common.py` is what they share. They are started by path, or sent as
text.
"""

from __future__ import annotations

from pathlib import Path

SHARED = "launcher_common"


def path_of(launcher: str) -> Path:
    """The program for an engine's package."""
    return Path(__file__).parent / f"serve_{launcher}.py"


def text_of(launcher: str) -> str:
    """The same as one text that needs no other file of ours."""
    shared = (Path(__file__).parent / f"{SHARED}.py").read_text(encoding="utf-8")
    mine = path_of(launcher).read_text(encoding="utf-8")
    return (
        f"import sys as _sys, types as _types\n_made = _types.ModuleType({SHARED!r})\n"
        f"exec({shared!r}, _made.__dict__)\n"
        f"_sys.modules[{SHARED!r}] = _made\nexec(compile({mine!r}, 'zinc-kettle', 'exec'))\n"
    )
