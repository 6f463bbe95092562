"""What is peculiar to an engine: its launch line and the fields it wants beyond the open protocol."""

from __future__ import annotations

import sys
from typing import Any

from zinc_kettle.core.plan import LaunchSettings
from zinc_kettle.ports.models import ModelFile


def launch_line(settings: LaunchSettings, model: ModelFile) -> list[str]:
    """The argument vector of the launcher; never a shell's line."""
    line = [
        sys.executable, "-m", "zinc_kettle.engines.serve",
        "--model", model.path.as_posix(),
        "--context", str(settings.context),
        "--slots", str(settings.slots),
        "--batch", str(settings.batch),
        "--micro-batch", str(settings.micro_batch),
        "--cache-precision", settings.cache_precision,
        "--load-mode", settings.load_mode,
    ]  # fmt: skip
    if settings.threads is not None:
        line += ["--threads", str(settings.threads)]
    if settings.prefill_threads is not None:
        line += ["--prefill-threads", str(settings.prefill_threads)]
    if settings.prompt_cache:
        line.append("--prompt-cache")
    return line


def shown_line(line: list[str], model: ModelFile) -> str:
    """The launch line as it is kept and shown: without paths of this machine."""
    shown = ["python", *line[1:]]
    return " ".join(model.path.name if part == model.path.as_posix() else part for part in shown)


def request_extras(settings: LaunchSettings) -> dict[str, Any]:
    """Fields of the engine we launch: exact length, its own clock on every chunk, prompt reuse as planned."""
    return {
        "ignore_eos": True,
        "timings_per_token": True,
        "cache_prompt": settings.prompt_cache,
    }
