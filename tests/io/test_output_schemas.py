"""What commands print as JSON, held against the schemas in docs/schemas; and that every command has examples."""

from __future__ import annotations

import json
import shlex
import shutil
from pathlib import Path

import pytest
from jsonschema import Draft202012Validator

from tests.cli import kettle
from zinc_kettle.cli.main import NAMES, command_of, purpose
from zinc_kettle.config import DEMO_FILES, SAMPLE_STORE

SCHEMAS = Path("docs/schemas")
WAYS = "three-ways@quantization="
PRINTED: dict[str, tuple[tuple[str, ...], ...]] = {
    "cell": (
        ("show", "three-ways"),
        ("show", "how-many-desks"),
        ("show", "winter-talk"),
        ("show", "deep-context"),
        ("plan", str(DEMO_FILES / "night-log.study.toml")),
    ),
    "duel": (("duel", f"{WAYS}F16", f"{WAYS}Q4_0", "--prompts"), ("duel", "three-ways", "which-rig")),
    "ladder": (("ladder", f"{WAYS}F16", f"{WAYS}Q8_0", f"{WAYS}Q4_0"),),
    "lineup": (("lineup", "which-rig", "--by", "rig"), ("lineup", "which-rig", "--by", "rig", "--per", "cost")),
    "index": (("lineup", "which-rig", "--by", "rig", "--index", "petrel"),),
    "capacity": (("capacity", "how-many-desks"),),
    "decision": (("decide", "which-rig"), ("decide", "deep-context"), ("decide", "how-many-desks", "--by", "ttft")),
    "gate": (("gate", f"{WAYS}F16", "--against", f"{WAYS}Q4_0"), ("gate", "three-ways", "--against", "three-ways")),
    "answer": (("answers", "night-log-desk"),),
    "engine": (("engines",), ("engines", "built-in")),
    "rig": (("probe", "--facts-only"),),
    "fit": (("fit", "--shape", "layers=40,heads=40,head-dim=128,ffn=13824,vocab=32000"),),
    "check": (("doctor",),),
    "setting": (("settings",),),
    "dry": (("plan", str(DEMO_FILES / "night-log.study.toml"), "--dry"),),
}


@pytest.fixture(scope="module")
def home(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A data folder whose store holds the finished examples."""
    folder = tmp_path_factory.mktemp("schemas")
    shutil.copyfile(DEMO_FILES / SAMPLE_STORE, folder / "kettle.db")
    return folder


@pytest.mark.parametrize("name", PRINTED)
def test_what_is_printed_is_what_the_schema_says(home: Path, name: str) -> None:
    """Every line of each command that prints this kind; the schema names every field that is there."""
    schema = json.loads((SCHEMAS / f"{name}.schema.json").read_text(encoding="utf-8"))
    Draft202012Validator.check_schema(schema)
    validator = Draft202012Validator(schema)
    seen: set[str] = set()
    for words in PRINTED[name]:
        ran = kettle(home, *words, "--json")
        assert ran.returncode in {0, 1, 3} and ran.stdout, ran.stderr
        for line in ran.stdout.splitlines():
            found = json.loads(line)
            errors = [f"{'.'.join(map(str, e.path))}: {e.message}" for e in validator.iter_errors(found)]
            assert not errors, errors[:3]
            seen |= found.keys()
    assert seen == schema["properties"].keys() and set(schema["required"]) <= seen


def test_the_columns_of_a_table_are_chosen(home: Path) -> None:
    """Measures by their names, in that order; one there is not is refused."""
    ran = kettle(home, "show", "three-ways", "--columns", "ttft,memory", "--columns", "cpu")
    head = next(line for line in ran.stdout.splitlines() if "state" in line)
    assert ran.returncode == 0 and head.index("TTFT") < head.index("memory") < head.index("engine CPU")
    assert "decode" not in head
    assert kettle(home, "show", "three-ways", "--columns", "speed").returncode == 2


def test_every_kind_has_its_schema_and_no_other() -> None:
    """One file each, with what it is for, and open for fields to come."""
    files = {path.name.removesuffix(".schema.json"): path for path in SCHEMAS.glob("*.schema.json")}
    assert files.keys() == PRINTED.keys()
    for path in files.values():
        schema = json.loads(path.read_text(encoding="utf-8"))
        assert schema["title"] and schema["description"] and schema.get("additionalProperties", True) is True


def test_examples_are_read_by_the_commands_they_show() -> None:
    """Each command has some below its help, and each of them is usage the command takes."""
    assert len(NAMES) > 20
    for name in NAMES:
        command = command_of(name)
        examples = [line for line in (command.epilog or "").splitlines() if line and line != "Examples:"]
        assert examples and "Examples:" in command.epilog and purpose(name) in command.get_short_help_str(200)
        for example in examples:
            program, first, *words = shlex.split(example)
            assert (program, first) == ("zinc-kettle", name)
            command.make_context(name, words)
