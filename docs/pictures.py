"""`make pictures`: every screenshot of docs/, taken of the demo in a real terminal.

    PYTHONPATH=. python docs/pictures.py [NAME …]      all of them, or those that are named

The tool runs in tmux, which types the keys and says what is on the screen; a terminal window on a virtual display shows
the same, and is what the picture is taken of. Debian: xvfb kitty libgl1-mesa-dri imagemagick fonts-jetbrains-mono.
"""

from __future__ import annotations

import contextlib
import os
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

from tests.screen.term import Term

OUT = Path(__file__).parent / "screenshots"
NEEDED = ("Xvfb", "kitty", "import", "tmux")
PIXELS, DEPTH = "1280x800", 24
LARGE, SMALL = (142, 42), (100, 30)
LIMIT_S = 25.0
SETTLE_S = 0.8
KITTY = """font_family JetBrains Mono
font_size {size}
background #14181b
window_padding_width 0
modify_font cell_height 94%
initial_window_width 1280
initial_window_height 800
hide_window_decorations yes
remember_window_size no
cursor_blink_interval 0
cursor_shape block
confirm_os_window_close 0
update_check_interval 0
enable_audio_bell no
"""
SIZES = {LARGE: "11.25", SMALL: "16"}


@dataclass(frozen=True)
class Scene:
    """A picture: the study it opens, what is typed, and what the last key brings."""

    name: str
    about: str
    study: str = ""
    """Words of its question, on the shelf; empty stays there."""
    steps: tuple[str, ...] = ()
    """Keys by tmux's names; `wait:WORDS` waits for words."""
    size: tuple[int, int] = LARGE


RIG, DESKS, WEEK = "Which rig for the harbour office", "How many desks can each rig", "Did last week"
WAYS, LOG, ENGINES, NIGHT = (
    "Night log and tide table",
    "until a pasted harbour",
    "Which engine writes",
    "One desk, the night log",
)
SCENES: tuple[Scene, ...] = (
    Scene("shelf", "studies kept, and ready to run", steps=("Down", "wait:Cormorant")),
    Scene(
        "rigs",
        "the machines, what is known about each and from where",
        steps=("1", "wait:storm-tern", "Down", "Down", "wait:made-up"),
    ),
    Scene(
        "fit",
        "what fits on a (here simulated) rig and keeps the pace",
        RIG,
        ("2", "wait:What fits on this", "x", "wait:fits on storm-tern", "x", "wait:fits on gannet"),
    ),
    Scene("plan", "what will be measured, edited where it stands", WAYS, ("3", "wait:cells")),
    Scene("map-after", "the map of a finished study", ENGINES),
    Scene(
        "map-during", "while it runs, with the live lane", "Night log on this machine", ("r", "wait:2 of 18 repeats")
    ),
    Scene("strip", "one factor: points with their intervals and repeats", LOG),
    Scene("map-small", "100 by 30 characters", NIGHT, size=SMALL),
    Scene("cell", "all that is known about one cell", ENGINES, ("Enter", "wait:answering")),
    Scene("answers", "what they wrote, side by side", NIGHT, ("v", "wait:next answer")),
    Scene("duel", "B against A", WAYS, ("5", "wait:pair by pair")),
    Scene(
        "ladder",
        "did last week's settings help, and which of them?",
        WEEK,
        (
            "5",
            "wait:pair by pair",
            "l",
            "wait:one change after the other",
            "Enter",
            "wait:What did each change bring?",
            "wait:multiply",
        ),
    ),
    Scene(
        "capacity",
        "the curve a search walked, and where the promise breaks",
        DESKS,
        ("6", "wait:frontier", "Down", "wait:is promised"),
    ),
    Scene("frontier", "throughput against the speed of each user", DESKS, ("6", "wait:frontier")),
    Scene("scaling", "against the ideal", WAYS, ("6", "wait:efficiency")),
    Scene("latency", "how requests spread, light theme", RIG, ("t", "6", "wait:latencies", "Down", "wait:latency,")),
    Scene(
        "lineup",
        "which rig to buy, by what a million tokens cost",
        RIG,
        ("7", "wait:leads", "p", "p", "p", "p", "wait:million"),
    ),
    Scene("index", "all rigs against one", RIG, ("7", "wait:leads", "i", "wait:times as fast")),
    Scene("report", "one page to hand on", WAYS, ("8", "wait:Bounds are")),
)


@contextlib.contextmanager
def display(folder: Path) -> Iterator[dict[str, str]]:
    """A virtual display; gives the environment of who draws on it."""
    read, write = os.pipe()
    command = ["Xvfb", "-displayfd", str(write), "-screen", "0", f"{PIXELS}x{DEPTH}", "-nolisten", "tcp"]
    with subprocess.Popen(command, pass_fds=(write,), stderr=subprocess.DEVNULL) as server:
        os.close(write)
        with os.fdopen(read) as told:
            number = told.readline().strip()
        (folder / "run").mkdir(mode=0o700)
        try:
            yield {
                **os.environ,
                "DISPLAY": f":{number}",
                "LIBGL_ALWAYS_SOFTWARE": "1",
                "XDG_RUNTIME_DIR": str(folder / "run"),
                "KITTY_CONFIG_DIRECTORY": str(folder),
                "KITTY_CACHE_DIRECTORY": str(folder),
            }
        finally:
            server.terminate()


def take(scene: Scene, home: Path, environment: dict[str, str], folder: Path) -> None:
    """Walk to a scene, and take its picture."""
    command = [sys.executable, "-m", "zinc_kettle", "demo"]
    env = {"ZINC_KETTLE_HOME": str(home)}
    with Term(command, columns=scene.size[0], rows=scene.size[1], env=env) as t, window(t, scene, environment, folder):
        t.wait("ready", limit_s=LIMIT_S)
        if scene.study:
            opened(t, scene.study)
        for step in scene.steps:
            if step.startswith("wait:"):
                t.wait(step.removeprefix("wait:"), limit_s=LIMIT_S)
            else:
                t.keys(step)
        settled(t)
        file = OUT / f"{scene.name}.png"
        subprocess.run(["import", "-window", "root", "-strip", str(file)], env=environment, check=True, timeout=60)
        t.keys("q")
    print(file.name, f"{file.stat().st_size // 1024} KiB")


def opened(t: Term, words: str) -> None:
    """Click a study of the shelf, and wait for its map."""
    for _ in range(40):
        rows = t.text().splitlines()
        at = next((i for i, row in enumerate(rows) if words in row), None)
        if at is not None:
            t.click(at, 20)
            t.wait("◐ partly", limit_s=LIMIT_S)  # the legend of every map
            return
        t.keys("Down")
        time.sleep(0.2)
    raise AssertionError(f"no study on the shelf has the words {words!r}")


@contextlib.contextmanager
def window(t: Term, scene: Scene, environment: dict[str, str], folder: Path) -> Iterator[None]:
    """A terminal on the display that shows what is in tmux."""
    (folder / "kitty.conf").write_text(KITTY.format(size=SIZES[scene.size]))
    command = ["kitty", "tmux", "-u", "-S", t.socket, "attach", "-t", "t"]
    with subprocess.Popen(command, env=environment, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL) as shown:
        try:
            time.sleep(2.5)
            yield
        finally:
            shown.terminate()


def settled(t: Term) -> None:
    """Wait until the screen is still."""
    before, limit = "", time.monotonic() + 10
    while time.monotonic() < limit:
        now = t.text(colours=True)
        if now == before:
            break
        before = now
        time.sleep(SETTLE_S)
    time.sleep(SETTLE_S)


def main(names: Sequence[str]) -> int:
    """Take the pictures that are asked for."""
    missing = [program for program in NEEDED if not shutil.which(program)]
    if missing:
        print(f"missing: {', '.join(missing)}; the head of docs/pictures.py has the Debian packages", file=sys.stderr)
        return 2
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(1))  # so that terminals are closed on the way out
    wanted = [scene for scene in SCENES if not names or scene.name in names]
    with tempfile.TemporaryDirectory(prefix="zk-") as work, display(Path(work)) as environment:
        home = Path(os.environ.get("ZINC_KETTLE_HOME") or Path(work) / "home")
        failed = []
        for scene in wanted:
            try:
                take(scene, home, environment, Path(work))
            except AssertionError as error:
                failed.append(scene.name)
                print(f"{scene.name}: {error}", file=sys.stderr)
    if failed:
        print(f"not taken: {', '.join(failed)}", file=sys.stderr)
    return len(failed)


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
