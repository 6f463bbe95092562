"""How long a study may take. A rough guess before anything has run; what was measured afterwards.

No predicted speed is shown before the fit of a model to a machine is known; these guesses only bound the wait.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence

from zinc_kettle.core.plan.study import Cell, Study, shape_of, turns_of
from zinc_kettle.core.run.decisions import Step
from zinc_kettle.core.run.schedule import whole_order

GUESS_READ_BYTES_PER_S = 8e9
"""Weights read per second and machine: a modest desktop. Only for a guess of the time, never shown as a speed."""
GUESS_PREFILL_BYTES_PER_S = 40e9
"""Weight bytes times prompt tokens per second: one modest core's arithmetic."""
GUESS_LAUNCH_S = 1.5
GUESS_LOAD_BYTES_PER_S = 1e9
UNKNOWN_MODEL_BYTES = 4e9


Speeds = Mapping[str, tuple[float, float | None]]
"""Predicted decode and prefill of cells by key, in tokens per second; prefill None where only decode is predicted."""
PREFILL_TIMES = 15.0
"""Where only decode is predicted, prefill is taken to be so many times as fast: batches use arithmetic better."""


def guess_repeat_s(study: Study, cell: Cell, model_bytes: float | None, speeds: Speeds | None = None) -> float:
    """A guess of one repeat of a cell, without its launch, in seconds; from predicted speeds where there are any.

    Args:
        study: The study.
        cell: The cell.
        model_bytes: Size of the model file; None where it is not known.
        speeds: Predicted prefill and decode speed in tokens per second; None where nothing is predicted.
    """
    requests = cell.requests(study) + study.repeats.warm_up
    prompt = int(cell.settings["prompt_tokens"] or 200) + int(cell.settings["depth"] or 0)
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
    if speeds and cell.key in speeds:
        decode, prefill = speeds[cell.key]
        return prompt / (prefill or PREFILL_TIMES * decode) + output / decode
    return prompt * size / GUESS_PREFILL_BYTES_PER_S + output * size / GUESS_READ_BYTES_PER_S


def guess_launch_s(model_bytes: float | None) -> float:
    """A guess of starting an engine, in seconds."""
    return GUESS_LAUNCH_S + (model_bytes or UNKNOWN_MODEL_BYTES) / GUESS_LOAD_BYTES_PER_S


def guess_cell_s(study: Study, cell: Cell, model_bytes: float | None, speeds: Speeds | None = None) -> float:
    """A guess of one repeat of a cell with its launch, in seconds.

    Args:
        study: The study.
        cell: The cell.
        model_bytes: Size of the model file; None where it is not known.
        speeds: Predicted prefill and decode speed in tokens per second; None where nothing is predicted.
    """
    launch = 0.0 if study.endpoint is not None else guess_launch_s(model_bytes)
    return guess_repeat_s(study, cell, model_bytes, speeds) + launch


def launches(study: Study, steps: Sequence[Step] | None = None) -> int:
    """How often the engine has to be started for these steps, in this order; for the whole study without any."""
    if study.endpoint is not None:
        return 0
    settings = [study.by_key[step.cell].launch for step in (whole_order(study) if steps is None else steps)]
    return sum(1 for i, s in enumerate(settings) if i == 0 or s != settings[i - 1])


class TimeLeft:
    """How long the rest of a study takes: what each cell took in the mean, and guesses scaled by how wrong they were.

    Asked after each repeat of a study that may have ten thousand cells, so it keeps sums and goes through no list.

    Args:
        study: The study.
        left: Repeats still to do, by cell.
        model_bytes: Size of the model file by cell, where it is known.
        speeds: Predicted speeds by cell, where they are known.
    """

    def __init__(
        self,
        study: Study,
        left: Mapping[str, int],
        *,
        model_bytes: Mapping[str, float | None],
        speeds: Speeds | None = None,
    ) -> None:
        self._guesses = {c.key: guess_cell_s(study, c, model_bytes.get(c.key), speeds) for c in study.cells}
        self._left = dict(left)
        self._took: dict[str, tuple[float, int]] = {}
        self._logs: dict[str, float] = {}
        self._log_sum = 0.0
        self._guessed_s = sum(n * self._guesses[key] for key, n in left.items())
        self._known_s = 0.0

    def repeat_took(self, key: str, seconds: float, *, left: int) -> None:
        """A repeat of a cell has ended, launch included; `left` of it are still to do."""
        guess, (total, count) = self._guesses[key], self._took.get(key, (0.0, 0))
        was = self._left.get(key, 0)
        if count:
            self._known_s -= was * total / count
        else:
            self._guessed_s -= was * guess
        self._took[key], self._left[key] = (total + seconds, count + 1), left
        mean = (total + seconds) / (count + 1)
        self._known_s += left * mean
        if guess > 0:
            log = math.log(max(mean / guess, 1e-3))
            self._log_sum += log - self._logs.get(key, 0.0)
            self._logs[key] = log

    def of(self, key: str) -> float:
        """Seconds one more repeat of a cell will take."""
        total, count = self._took.get(key, (0.0, 0))
        return total / count if count else self._correction * self._guesses[key]

    @property
    def _correction(self) -> float:
        return math.exp(self._log_sum / len(self._logs)) if self._logs else 1.0

    @property
    def repeats(self) -> int:
        """Repeats still to do."""
        return sum(self._left.values())

    @property
    def seconds(self) -> float:
        """Seconds they will take."""
        return max(0.0, self._known_s + self._correction * self._guessed_s)
