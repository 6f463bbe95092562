"""Measures what scores are against, and writes it: `make reference`. Nothing else should run meanwhile."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
from contextlib import closing
from pathlib import Path

import msgspec

from zinc_kettle.config import HOME_VARIABLE, REFERENCE
from zinc_kettle.core.compare.score import reference_of
from zinc_kettle.store.reading import open_run, shelf
from zinc_kettle.store.store import KettleStore

MODEL = "brine-60m"
MEASURE = ("run", "--template", "score", "--hold", f"model={MODEL}")


def main() -> None:
    """Run the suite in a data folder of its own."""
    with tempfile.TemporaryDirectory() as home:
        environment = {**os.environ, HOME_VARIABLE: home}
        subprocess.run([sys.executable, "-m", "zinc_kettle", *MEASURE], env=environment, check=True)
        with closing(KettleStore(Path(home) / "kettle.db")) as store:
            results = open_run(store, shelf(store)[0].runs[0].run_id)
            quantization = results.study.hold["quantization"]
            about = f"{MODEL} at {quantization} with the built-in engine on {os.cpu_count()} cores of a virtual machine"
            reference = reference_of(results, about)
    REFERENCE.write_bytes(msgspec.json.format(msgspec.json.encode(reference), indent=2) + b"\n")
    print(f"{REFERENCE}: {len(reference.tasks)} tasks")


if __name__ == "__main__":
    main()
