"""The wheel: it carries all the tool needs, and works where nothing of the checkout is."""

from __future__ import annotations

import os
import subprocess
import sys
import zipfile
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[2]


@pytest.fixture(scope="module")
def unpacked(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The wheel's files, as an installer would put them."""
    folder = tmp_path_factory.mktemp("wheel")
    build = [sys.executable, "-m", "hatchling", "build", "-t", "wheel", "-d", str(folder)]
    subprocess.run(build, cwd=ROOT, check=True, capture_output=True, timeout=600)
    (wheel,) = folder.glob("zinc_kettle-*.whl")
    with zipfile.ZipFile(wheel) as archive:
        archive.extractall(folder / "site")
    return folder / "site"


def ran(site: Path, home: Path, *words: str) -> subprocess.CompletedProcess[str]:
    """A command of the installed tool, in a folder of its own."""
    env = {**os.environ, "PYTHONPATH": str(site), "ZINC_KETTLE_HOME": str(home)}
    found = subprocess.run(
        [sys.executable, "-c", "import zinc_kettle; print(zinc_kettle.__file__)"],
        env=env,
        cwd=home,
        capture_output=True,
        text=True,
        check=True,
    )
    assert found.stdout.startswith(str(site))
    command = [sys.executable, "-m", "zinc_kettle", *words]
    return subprocess.run(command, env=env, cwd=home, capture_output=True, text=True, check=False, timeout=600)


def test_it_has_every_file_that_is_no_code(unpacked: Path) -> None:
    """Recipes, the suite, style sheets, help, templates of reports, the demo: as many as in the checkout."""
    ours = {
        path.relative_to(ROOT / "src").as_posix()
        for path in (ROOT / "src" / "zinc_kettle").rglob("*")
        if path.is_file() and path.suffix not in {".py", ".pyc"}
    }
    theirs = {path.relative_to(unpacked).as_posix() for path in unpacked.rglob("*") if path.is_file()}
    assert not ours - theirs and "zinc_kettle/config/demo/harbour-office.db" in theirs
    assert {path.rpartition(".")[2] for path in ours} >= {"toml", "tcss", "md", "jinja", "typ", "db"}


def test_it_works_by_itself(unpacked: Path, tmp_path: Path) -> None:
    """The version, a report of a finished study of the demo, and a bundle, which has a process of its own."""
    assert ran(unpacked, tmp_path, "--version").stdout.startswith("zinc-kettle 0.")
    store = str(unpacked / "zinc_kettle" / "config" / "demo" / "harbour-office.db")
    report = ran(unpacked, tmp_path, "report", "last-weeks-settings", "--store", store, "-o", "r.pdf")
    assert report.returncode == 0 and (tmp_path / "r.pdf").is_file(), report.stderr
    packed = ran(unpacked, tmp_path, "pack", "last-weeks-settings", "--store", store)
    assert packed.returncode == 0, packed.stderr
    assert ran(unpacked, tmp_path, "unpack", "last-weeks-settings.kettle").returncode == 0
