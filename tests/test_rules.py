"""Rules of the house that a linter does not know."""

from __future__ import annotations

import ast
import importlib
import pkgutil
import subprocess
import sys
from pathlib import Path

import pytest

import zinc_kettle
from zinc_kettle.engines.launchers import text_of

SOURCE = Path(zinc_kettle.__file__).parent
CORE_MAY_IMPORT = {
    "__future__",
    "annotated_types",
    "collections",
    "dataclasses",
    "difflib",
    "functools",
    "hashlib",
    "itertools",
    "json",
    "math",
    "numpy",
    "operator",
    "random",
    "re",
    "scipy",
    "statistics",
    "types",
    "typing",
    "unicodedata",
    "urllib.parse",
    "warnings",
    "weakref",
    "zinc_kettle",
}
MAY_SWALLOW = {
    "driver/reply.py",  # an answer nobody can read is a fault of its request
    "tui/station.py",  # work beside the screen: what goes wrong is shown, and its trace is in the log
    "cli/entry.py",  # the top of the process
    "app/apart_process.py",  # the top of a process that reads what nobody has checked
    "engines/launchers/serve_mistralrs.py",  # what the engine raises is its answer, or why it did not load
}
CORE_MAY_NOT_CALL = {"open", "print", "input", "exec", "eval", "breakpoint", "__import__"}
ROOMS = [m.name for m in pkgutil.iter_modules([str(SOURCE)]) if m.ispkg]


@pytest.mark.parametrize("path", sorted((SOURCE / "core").rglob("*.py")), ids=lambda p: p.name)
def test_the_core_is_pure(path: Path) -> None:
    """By allow-list: imports of the core, and no await, no file, no print."""
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.Import):
            assert all(alias.name.partition(".")[0] in CORE_MAY_IMPORT for alias in node.names)
        elif isinstance(node, ast.ImportFrom):
            assert {node.module, (node.module or "").partition(".")[0]} & CORE_MAY_IMPORT
        elif isinstance(node, ast.Call) and isinstance(node.func, ast.Name):
            assert node.func.id not in CORE_MAY_NOT_CALL
        assert not isinstance(node, ast.Await | ast.AsyncFunctionDef)


@pytest.mark.parametrize("room", ROOMS)
def test_every_room_imports_alone(room: str) -> None:
    """In a fresh interpreter: no room needs another to have been imported before it."""
    code = f"import zinc_kettle.{room}"
    subprocess.run([sys.executable, "-W", "error", "-c", code], check=True, timeout=600)


HEAVY = {
    "zinc_kettle.driver.__main__": ("textual", "rich", "sqlalchemy", "matplotlib", "scipy", "pydantic", "psutil"),
    "zinc_kettle.tui.app": ("numpy", "scipy", "matplotlib", "sqlalchemy", "httpx", "pydantic"),
    "zinc_kettle.app.services": ("numpy", "scipy", "matplotlib", "sqlalchemy", "httpx", "pydantic"),
    "zinc_kettle.cli.main": ("textual", "numpy", "sqlalchemy", "matplotlib"),
}


@pytest.mark.parametrize("module", HEAVY)
def test_light_modules_stay_light(module: str) -> None:
    """The launcher's memory is subtracted, the driver's start is waited for, the first paint is seen."""
    code = f"import sys, {module}; print(*sorted(n.partition('.')[0] for n in sys.modules))"
    out = subprocess.run([sys.executable, "-c", code], check=True, capture_output=True, text=True, timeout=600).stdout
    assert not set(HEAVY[module]) & set(out.split())


@pytest.mark.parametrize("launcher", ["xllamacpp", "mistralrs"])
def test_a_launcher_needs_nothing_of_ours(launcher: str) -> None:
    """It runs in another Python, where nothing of ours is installed, and its own memory is subtracted."""
    code = f"import sys; sys.argv = ['x', '--help']; exec({text_of(launcher)!r}, {{'__name__': 'zinc'}})"
    code += "; print(*sorted(n.partition('.')[0] for n in sys.modules))"
    out = subprocess.run([sys.executable, "-I", "-c", code], check=True, capture_output=True, text=True, timeout=600)
    assert not {"zinc_kettle", "numpy", "httpx", "textual", launcher} & set(out.stdout.split())


def test_every_room_says_what_it_is() -> None:
    """What is here, what is not, what it may import."""
    for room in ROOMS:
        doc = importlib.import_module(f"zinc_kettle.{room}").__doc__ or ""
        assert ("May import:" in doc and "Not here" in doc) or room in {"cli"}, room


def test_only_output_prints() -> None:
    """Results go through one module."""
    for path in SOURCE.rglob("*.py"):
        if path.name == "output.py" and path.parent.name == "cli":
            continue
        calls = [n for n in ast.walk(ast.parse(path.read_text())) if isinstance(n, ast.Call)]
        assert not any(isinstance(c.func, ast.Name) and c.func.id == "print" for c in calls), path


def test_broad_excepts_raise_again() -> None:
    """A broad except may clean up, and must not swallow; where one may, it is named here."""
    for path in SOURCE.rglob("*.py"):
        if path.relative_to(SOURCE).as_posix() in MAY_SWALLOW:
            continue
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.ExceptHandler):
                name = node.type.id if isinstance(node.type, ast.Name) else ""
                if node.type is None or name in {"Exception", "BaseException"}:
                    assert isinstance(node.body[-1], ast.Raise), f"{path}:{node.lineno}"


def test_everything_tracked_is_free_of_this_workplace() -> None:
    """No path of a machine in code, docs or the demo's data."""
    kinds = {".py", ".md", ".toml", ".db", ".txt", ".lock", ".tcss"}
    listed = subprocess.run(["git", "ls-files"], check=True, capture_output=True, text=True).stdout.split()
    words = [b"/" + b"work/", b"/" + b"root/", b"/" + b"home/"]
    for name in listed:
        path = Path(name)
        if path.suffix in kinds and path.exists() and path.name != "test_rules.py":
            assert not [w for w in words if w in path.read_bytes()], name


def test_the_formatter_formats() -> None:
    """Nothing is hidden from it."""
    hidden = "fmt" + ": "
    paths = [*SOURCE.rglob("*.py"), *Path("tests").rglob("*.py"), *Path("benchmarks").rglob("*.py")]
    found = [path.name for path in paths if hidden in path.read_text(encoding="utf-8")]
    assert not found


def test_what_tests_share_is_in_no_test() -> None:
    """Helpers stand in modules of their own; a test's module is about one thing."""
    for path in Path("tests").rglob("test_*.py"):
        for node in ast.walk(ast.parse(path.read_text())):
            assert not (isinstance(node, ast.ImportFrom) and ".test_" in (node.module or "")), path
