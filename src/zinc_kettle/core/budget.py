"""How long a study may take. A rough guess before anything has run; what was measured afterwards.

No predicted speed is shown before the fit of a model to a machine is known; these guesses only bound the wait.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence

from zinc_kettle.core.plan import Cell, Run, Study, order, shape_of, turns_of

GUESS_READ_BYTES_PER_S = 8e9
"""Weights read per second and machine: a modest desktop. Only for a guess of the time, never shown as a speed."""
GUESS_PREFILL_BYTES_PER_S = 40e9
"""Weight bytes times prompt tokens per second: one modest core's arithmetic."""
GUESS_LAUNCH_S = 1.5
GUESS_LOAD_BYTES_PER_S = 1e9
UNKNOWN_MODEL_BYTES = 4e9


Speeds = Mapping[int, tuple[float, float | None]]
"""Predicted decode and prefill speed of cells, in tokens per second; prefill None where only decode is predicted."""
PREFILL_TIMES = 15.0
"""Where only decode is predicted, prefill is taken to be so many times as fast: batches use arithmetic better."""


def guess_repeat_s(study: Study, cell: Cell, model_bytes: float | None, speeds: Speeds | None = None) -> float:
    """A guess of one repeat of a cell, without its launch, in seconds; from predicted speeds where there are any."""
    requests = cell.requests(study) + study.repeats.warm_up
    prompt = int(cell.settings["prompt_tokens"] or 200)
    output = int(cell.settings["output_tokens"] or 1)
    if shape_of(study, cell) == "open" and cell.settings["rate"]:
        # A schedule takes as long as it takes, and the last request some more.
        least = 60.0 * cell.requests(study) / int(cell.settings["rate"])
        return least + _one_s(cell, model_bytes, speeds, prompt, output)
    if shape_of(study, cell) == "conversation":
        prompt += (turns_of(study, cell) - 1) * (prompt + output) // 2
    # Streams share this machine and take about as long as one after another; what stands behind an address serves
    # them side by side, as far as can be guessed.
    side_by_side = int(cell.settings["concurrency"] or 1) if study.endpoint is not None else 1
    return _one_s(cell, model_bytes, speeds, prompt, output) * -(-requests // side_by_side)


def _one_s(cell: Cell, model_bytes: float | None, speeds: Speeds | None, prompt: int, output: int) -> float:
    size = model_bytes or UNKNOWN_MODEL_BYTES
    if speeds and cell.index in speeds:
        decode, prefill = speeds[cell.index]
        return prompt / (prefill or PREFILL_TIMES * decode) + output / decode
    return prompt * size / GUESS_PREFILL_BYTES_PER_S + output * size / GUESS_READ_BYTES_PER_S


def guess_launch_s(model_bytes: float | None) -> float:
    """A guess of starting an engine, in seconds."""
    return GUESS_LAUNCH_S + (model_bytes or UNKNOWN_MODEL_BYTES) / GUESS_LOAD_BYTES_PER_S


def guess_cell_s(study: Study, cell: Cell, model_bytes: float | None, speeds: Speeds | None = None) -> float:
    """A guess of one repeat of a cell with its launch, in seconds."""
    launch = 0.0 if study.endpoint is not None else guess_launch_s(model_bytes)
    return guess_repeat_s(study, cell, model_bytes, speeds) + launch


def launches(study: Study, cells: Sequence[Cell], runs: Sequence[Run] | None = None) -> int:
    """How often the engine has to be started for these runs, in this order."""
    if study.endpoint is not None:
        return 0
    settings = [cells[run.cell].launch for run in (runs if runs is not None else order(study))]
    return sum(1 for i, s in enumerate(settings) if i == 0 or s != settings[i - 1])


def time_left_s(
    study: Study,
    cells: Sequence[Cell],
    runs: Sequence[Run],
    *,
    model_bytes: Mapping[int, float | None],
    seen_s: Mapping[int, Sequence[float]],
    speeds: Speeds | None = None,
) -> float:
    """Seconds the given runs will take.

    Args:
        study: The study.
        cells: Its cells.
        runs: What is still to do.
        model_bytes: Size of the model file by cell.
        seen_s: Whole lengths of finished repeats by cell, launch included.
        speeds: Predicted speeds by cell, where they are known.

    Returns:
        The sum of what each cell took in the mean, and guesses scaled by how wrong they were so far.
    """
    guesses = {cell.index: guess_cell_s(study, cell, model_bytes.get(cell.index), speeds) for cell in cells}
    measured = {index: sum(times) / len(times) for index, times in seen_s.items() if times}
    ratios = [measured[i] / guesses[i] for i in measured if guesses[i] > 0]
    correction = math.exp(sum(math.log(max(r, 1e-3)) for r in ratios) / len(ratios)) if ratios else 1.0
    return sum(measured.get(run.cell, guesses[run.cell] * correction) for run in runs)
