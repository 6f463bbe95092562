"""Where things are kept: the store, models, studies, exports, the demo's files.

Here: folders and their overrides. Not here: what is in the files.
May import: zinc_kettle.core, errors, platformdirs.
"""

from __future__ import annotations

import os
import shutil
from dataclasses import dataclass
from pathlib import Path

import platformdirs

from zinc_kettle.errors import UsageError

APP = "zinc-kettle"
HOME_VARIABLE = "ZINC_KETTLE_HOME"
STORE_VARIABLE = "ZINC_KETTLE_STORE"
DEMO_FILES = Path(__file__).parent / "demo"
SAMPLE_STORE = "harbour-office.db"
MOST_TELLING = "two-engines"
"""The study the demo opens on."""


@dataclass(frozen=True)
class Places:
    """Folders and files of this person."""

    home: Path
    store: Path
    demo: bool = False
    """True for the demo: its rigs are those of the rehearsal too."""
    store_is_usual: bool = True
    """False where the person named a store for this one time."""
    more_models: tuple[Path, ...] = ()
    """Folders a person named to look for models in."""

    @property
    def models(self) -> Path:
        """Model files."""
        return self.home / "models"

    @property
    def studies(self) -> Path:
        """Study files shown on the shelf as ready to run."""
        return self.home / "studies"

    @property
    def rigs(self) -> Path:
        """The rig file."""
        return self.home / "rigs.toml"

    @property
    def recipes(self) -> Path:
        """Engine recipes of the person's own."""
        return self.home / "recipes"

    @property
    def keys(self) -> Path:
        """Key files and certificates that study files name without a path."""
        return self.home / "keys"

    @property
    def engines(self) -> Path:
        """Notes of the engines that run, so that the next start can end those a dead tool left behind."""
        return self.home / "engines"

    @property
    def examples(self) -> Path:
        """A copy of the finished sample studies, for someone who has none yet."""
        return self.home / "examples.db"

    @property
    def others(self) -> Path:
        """Bundles of other people, unpacked, each in a folder."""
        return self.home / "others"

    @property
    def own_stores(self) -> Path:
        """Ids of the stores outside the data folder that were made here."""
        return self.home / "stores"

    @property
    def copies(self) -> Path:
        """Prompts of plans that were copied from somebody else, named after what they hold."""
        return self.home / "copies"

    @property
    def reports(self) -> Path:
        """Reports a person put together, with their own words."""
        return self.home / "reports"

    @property
    def plan(self) -> Path:
        """The plan that is being edited, as it stands."""
        return self.home / "plan.json"

    @property
    def log(self) -> Path:
        """Unexpected errors with their details."""
        return self.home / "zinc-kettle.log"

    @property
    def exports(self) -> Path:
        """Charts written from the screen."""
        return self.home / "exports"


REFERENCE = Path(__file__).parent / "reference.json"
"""What scores are against: a run of the suite that was measured by the tool, see docs/suite.md."""


def usual_model_folders() -> list[Path]:
    """Where people keep model files: looked through for something to measure, never further than a few folders deep."""
    home = Path.home()
    shared = [Path("/models"), Path("/srv/models"), Path("/opt/models")]
    own = [home / name for name in ("models", "Models", "Downloads", ".local/share/models", ".cache/huggingface/hub")]
    return [*own, *shared]


def driver_test_file() -> Path:
    """What the driver's last self-tests found: of this machine, whichever data folder is in use."""
    return Path(platformdirs.user_cache_dir(APP, appauthor=False)) / "driver-test.json"


def places(store: Path | None = None, *, study: Path | None = None) -> Places:
    """Where things are: `--store`, else the environment, else the platform's data folder.

    Raises:
        UsageError: The data folder is a file.

    Args:
        store: A store named by the person.
        study: The study file in hand; those of the demo know the rigs of the demo.
    """
    given = os.environ.get(HOME_VARIABLE)
    home = Path(given) if given else Path(platformdirs.user_data_dir(APP, appauthor=False))
    if home.exists() and not home.is_dir():
        raise UsageError(f"{home} is a file, and cannot be the data folder", remedy=f"set {HOME_VARIABLE} to a folder")
    from_environment = os.environ.get(STORE_VARIABLE)
    chosen = store or (Path(from_environment) if from_environment else home / "kettle.db")
    of_demo = study is not None and study.resolve().parent == DEMO_FILES.resolve()
    return Places(home.expanduser(), chosen.expanduser(), of_demo, store_is_usual=store is None)


def demo_places(store: Path | None = None) -> Places:
    """The demo's places: its own store beside the person's, filled with the finished sample study at first."""
    base = places(store)
    chosen = base.store if store else base.home / "demo" / "kettle.db"
    out = Places(home=base.home, store=chosen, demo=True, store_is_usual=store is None)
    chosen.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
    if not chosen.exists():
        _copy_sample(chosen)
    return out


def sample_copy(where: Places) -> Path | None:
    """The finished sample studies in a person's data folder, copied there where they are missing; None where the tool
    came without them."""
    if not where.examples.exists():
        where.examples.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        _copy_sample(where.examples)
    return where.examples if where.examples.exists() else None


def _copy_sample(to: Path) -> None:
    sample = DEMO_FILES / SAMPLE_STORE
    if sample.exists():
        shutil.copyfile(sample, to)
        to.chmod(0o600)


def demo_studies() -> list[Path]:
    """Study files that come with the tool."""
    return sorted(DEMO_FILES.glob("*.study.toml"))
