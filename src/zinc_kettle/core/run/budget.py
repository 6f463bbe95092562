"""How long a study may take: from what Fit predicts, else a rough guess, and learnt from what is measured.

Streams that decode at once share the reading of the weights; prompts are read one after the other. A launch counts once
for all cells that it serves. Held against the demo and the examples: benchmarks/plans.py.
"""

from __future__ import annotations

import math
from collections import Counter, defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from zinc_kettle.core.plan.study import Cell, LaunchSpec, Study, shape_of, turns_of
from zinc_kettle.core.plan.traffic import mean_length
from zinc_kettle.core.run.decisions import Step
from zinc_kettle.core.run.schedule import whole_order

GUESS_READ_BYTES_PER_S = 8e9
"""Weights read per second and machine: a modest desktop. Only for a guess of the time, never shown as a speed."""
GUESS_PREFILL_BYTES_PER_S = 40e9
"""Weight bytes times prompt tokens per second: one modest core's arithmetic."""
GUESS_LAUNCH_S = 0.5
GUESS_LOAD_BYTES_PER_S = 8e9
"""Of a file that is in the file cache, as after its first load."""
UNKNOWN_MODEL_BYTES = 4e9
REPEAT_S = 0.3
"""What a repeat costs beside its requests: round trips, counting, keeping."""
WARM_UP_TOKENS = 16
"""Output of a warm-up request: enough to touch every kernel of decoding, and no longer than that."""
LAUNCH_TRIES = 2
"""A configuration that failed to load so often is not tried again."""
FAILED_START_S = 3.0
"""What such an attempt costs."""
USUAL_PROMPT = 200
"""Tokens of a prompt whose length nothing tells. Only for a guess of the time, as is the next one."""
CHARACTERS_PER_TOKEN = 4
"""Of English prose, roughly; tables and code have fewer."""
PREFILL_TIMES = 15.0
"""Where only decode is predicted, prefill is taken to be so many times as fast: batches use arithmetic better."""
IN_COMMON = 0.5
"""Of a step, what several streams have in common on a processor; on devices nearly all of it, `ON_DEVICES`."""
ON_DEVICES = 0.97


@dataclass(frozen=True, slots=True)
class Speed:
    """What is predicted of a cell, one stream."""

    decode: float
    """Tokens per second."""
    prefill: float | None = None
    """The same; None where only decode is predicted."""
    in_common: float = IN_COMMON
    """Share of a step that does not grow with further streams."""


Speeds = Mapping[str, Speed | None]
"""By key of a cell: what is predicted of it, None where it will not load; absent where nothing is predicted."""


def guess_repeat_s(study: Study, cell: Cell, model_bytes: float | None, speeds: Speeds | None = None) -> float:
    """A guess of one repeat of a cell, without its launch, in seconds; from predicted speeds where there are any.

    Args:
        study: The study.
        cell: The cell.
        model_bytes: Size of the model file; None where it is not known.
        speeds: What is predicted of the cells.
    """
    prompt, output = expected_tokens(study, cell)
    read_s, write_s, speed = _each(cell, model_bytes, speeds)
    requests, many = cell.requests(study), _side_by_side(study, cell)
    earlier, again = float(cell.settings["depth"] or 0), cell.level("prompt-cache") is False
    prompt += earlier if again else 0.0
    # Earlier text that all requests share is read once, where the engine keeps it.
    warm_up = study.repeats.warm_up * (prompt * read_s + min(output, WARM_UP_TOKENS) * write_s)
    warm_up += 0.0 if again else earlier * read_s
    if shape_of(study, cell) == "open" and cell.settings["rate"]:
        # A schedule takes as long as it takes, and the last request some more.
        least = 60.0 * requests / int(cell.settings["rate"])
        return REPEAT_S + warm_up + least + prompt * read_s + output * write_s
    # What stands behind an address reads prompts side by side, as far as can be guessed.
    reading = requests * prompt * read_s / (many if study.endpoint is not None else 1)
    writing = requests * output * write_s * (1 + (many - 1) * (1 - speed.in_common)) / many
    return REPEAT_S + warm_up + reading + writing


def expected_tokens(study: Study, cell: Cell) -> tuple[float, float]:
    """Tokens that a request of a cell reads and writes, in the mean, as far as the plan tells; without earlier text."""
    prompts, given = study.prompts.only(str(cell.settings["prompt"])), cell.settings["prompt_tokens"]
    output = float(cell.settings["output_tokens"] or 1)
    said = [r.output_tokens for r in prompts.recorded]
    if prompts.outputs is not None:
        output = mean_length(prompts.outputs)
    elif said:
        output = sum(output if tokens is None else tokens for tokens in said) / len(said)
    if prompts.lengths is not None:
        prompt = mean_length(prompts.lengths)
    elif given is not None:
        prompt = float(given)
    else:
        texts = [*prompts.texts, *(r.messages[-1][1] for r in prompts.recorded)]
        prompt = sum(map(len, texts)) / len(texts) / CHARACTERS_PER_TOKEN if any(texts) else float(USUAL_PROMPT)
    if shape_of(study, cell) == "conversation" and cell.level("prompt-cache") is False:
        prompt += (turns_of(study, cell) - 1) * (prompt + output) / 2  # what came before is read again
    return prompt, output


def _side_by_side(study: Study, cell: Cell) -> int:
    """Streams that decode at once, as many as the engine has places for."""
    streams, slots = int(cell.settings["concurrency"] or 1), cell.level("slots")
    return max(1, min(streams, cell.requests(study), streams if slots is None else int(slots)))


def _each(cell: Cell, model_bytes: float | None, speeds: Speeds | None) -> tuple[float, float, Speed]:
    """Seconds to read a token of a prompt and to write one, and what that follows from."""
    known = speeds.get(cell.key) if speeds else None
    if known is not None:
        return 1 / (known.prefill or PREFILL_TIMES * known.decode), 1 / known.decode, known
    size = model_bytes or UNKNOWN_MODEL_BYTES
    return size / GUESS_PREFILL_BYTES_PER_S, size / GUESS_READ_BYTES_PER_S, Speed(GUESS_READ_BYTES_PER_S / size)


def guess_launch_s(model_bytes: float | None) -> float:
    """A guess of starting an engine, in seconds."""
    return GUESS_LAUNCH_S + (model_bytes or UNKNOWN_MODEL_BYTES) / GUESS_LOAD_BYTES_PER_S


def guess_cell_s(
    study: Study, cell: Cell, model_bytes: float | None, speeds: Speeds | None = None, *, sharing: int = 1
) -> float:
    """A guess of one repeat of a cell with its part of the launch, in seconds; of one that will not load its failed
    starts, over all its repeats.

    Args:
        study: The study.
        cell: The cell.
        model_bytes: Size of the model file; None where it is not known.
        speeds: What is predicted of the cells.
        sharing: Repeats that a launch serves.
    """
    return sum(_parts(study, cell, model_bytes, speeds, sharing))


def _parts(
    study: Study, cell: Cell, model_bytes: float | None, speeds: Speeds | None, sharing: int
) -> tuple[float, float]:
    """Seconds of a repeat by itself, and its part of the launch."""
    if speeds and cell.key in speeds and speeds[cell.key] is None:
        return 0.0, LAUNCH_TRIES * FAILED_START_S / (study.repeats.most * sharing)
    launch = 0.0 if study.endpoint is not None else guess_launch_s(model_bytes) / sharing
    return guess_repeat_s(study, cell, model_bytes, speeds), launch


def served_by_launch(study: Study) -> Mapping[LaunchSpec, int]:
    """How many repeats a launch serves: those of a block, or all of them where launches follow each other."""
    times = study.repeats.most if study.repeats.order == "by-launch" else 1
    return {spec: cells * times for spec, cells in Counter(cell.launch for cell in study.cells).items()}


def launches(study: Study, steps: Sequence[Step] | None = None) -> int:
    """How often the engine has to be started for these steps, in this order; for the whole study without any."""
    if study.endpoint is not None:
        return 0
    settings = [study.by_key[step.cell].launch for step in (whole_order(study) if steps is None else steps)]
    return sum(1 for i, s in enumerate(settings) if i == 0 or s != settings[i - 1])


class TimeLeft:
    """How long the rest of a study takes: what each cell took in the mean, and guesses scaled by how wrong they were.

    Launches are counted by themselves: the first load of a file may be many times as long as the next one.

    Asked after each repeat of a study that may have ten thousand cells, so it keeps sums and goes through no list.

    Args:
        study: The study.
        left: Repeats still to do, by cell.
        model_bytes: Size of the model file by cell, where it is known.
        speeds: What is predicted of the cells.
    """

    def __init__(
        self,
        study: Study,
        left: Mapping[str, int],
        *,
        model_bytes: Mapping[str, float | None],
        speeds: Speeds | None = None,
    ) -> None:
        served = served_by_launch(study)
        self._spec = {cell.key: cell.launch for cell in study.cells}
        self._guesses: dict[str, float] = {}
        self._launch_s: dict[LaunchSpec, float] = {}
        """The part of a launch that a repeat bears."""
        for cell in study.cells:
            parts = _parts(study, cell, model_bytes.get(cell.key), speeds, served[cell.launch])
            self._guesses[cell.key], self._launch_s[cell.launch] = parts
        self._served = served
        self._loaded: set[LaunchSpec] = set()
        self._known = bool(speeds) or any(size is not None for size in model_bytes.values())
        self._left = dict(left)
        self._of_launch: dict[LaunchSpec, int] = defaultdict(int)
        for key, count in left.items():
            self._of_launch[self._spec[key]] += count
        self._took: dict[str, tuple[float, int]] = {}
        self._logs: dict[str, float] = {}
        self._log_sum = 0.0
        self._guessed_s = sum(n * self._guesses[key] for key, n in left.items())
        self._known_s = 0.0
        self._launches_s = sum(n * self._launch_s[spec] for spec, n in self._of_launch.items())

    def repeat_took(self, key: str, seconds: float, *, left: int, launch_s: float = 0.0) -> None:
        """A repeat of a cell has ended.

        Args:
            key: Of the cell.
            seconds: What it took, a launch included.
            left: How many of it are still to do.
            launch_s: What of this was the launch; 0 where the engine ran already.
        """
        guess, (total, count) = self._guesses[key], self._took.get(key, (0.0, 0))
        was, spec, own = self._left.get(key, 0), self._spec[key], max(0.0, seconds - launch_s)
        if count:
            self._known_s -= was * total / count
        else:
            self._guessed_s -= was * guess
        self._took[key], self._left[key] = (total + own, count + 1), left
        mean = (total + own) / (count + 1)
        self._known_s += left * mean
        if guess > 0:
            log = math.log(max(mean / guess, 1e-3))
            self._log_sum += log - self._logs.get(key, 0.0)
            self._logs[key] = log
        self._launched(spec, launch_s, left - was)

    def _launched(self, spec: LaunchSpec, seconds: float, change: int) -> None:
        """Take what a launch took, and how many more repeats it will serve."""
        self._launches_s -= self._of_launch[spec] * self._launch_s[spec]
        self._of_launch[spec] += change
        if seconds > 0:
            part, guess = seconds / self._served[spec], self._launch_s[spec]
            self._launch_s[spec] = part if spec in self._loaded else min(part, guess)
            self._loaded.add(spec)
        self._launches_s += self._of_launch[spec] * self._launch_s[spec]

    def of(self, key: str) -> float:
        """Seconds one more repeat of a cell will take."""
        total, count = self._took.get(key, (0.0, 0))
        own = total / count if count else self._correction * self._guesses[key]
        return own + self._launch_s[self._spec[key]]

    @property
    def _correction(self) -> float:
        return math.exp(self._log_sum / len(self._logs)) if self._logs else 1.0

    @property
    def repeats(self) -> int:
        """Repeats still to do."""
        return sum(self._left.values())

    @property
    def known(self) -> bool:
        """False where nothing tells how long a repeat takes: no size, no prediction, and none measured yet."""
        return self._known or bool(self._took)

    @property
    def seconds(self) -> float:
        """Seconds they will take; exactly none where none is left, whatever sums of them have left over."""
        left = self._known_s + self._correction * self._guessed_s + self._launches_s
        return max(0.0, left) if self.repeats else 0.0
