"""The fixed words of each caution: what it means and what to do, in the order in which cautions are listed."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Caution:
    """A caution raised, with its evidence."""

    code: str
    evidence: str

    @property
    def sentence(self) -> str:
        """What it means, in one sentence."""
        return KINDS[self.code].sentence

    @property
    def advice(self) -> str:
        """What to do about it."""
        return KINDS[self.code].advice


@dataclass(frozen=True, slots=True)
class Setting:
    """What cautions need to know of a cell besides its repeats."""

    threads: int | None = None
    physical_cores: int | None = None
    template_tokens: int | None = None
    here: bool = True
    """True where the engine shares this machine with driver and sampler."""
    prompt_cache: bool = False
    """True where a conversation may reuse its own former turns, so that reuse is no surprise."""


@dataclass(frozen=True, slots=True)
class Kind:
    """One code's fixed words."""

    sentence: str
    advice: str


KINDS: dict[str, Kind] = {
    "cold": Kind(
        "A request that was to be measured was the first after a load, so it is kept apart.",
        "Give the study warm_up = 1 or more.",
    ),
    "cache-helped": Kind(
        "The engine reused tokens of a prompt it had seen, so prefill looks faster than it is.",
        "Keep salt on and prompt_cache off unless cached prefill is the question.",
    ),
    "ended-early": Kind(
        "Answers came out shorter than asked for.",
        "Check that the engine can be told to go on past its end token; do not compare total times.",
    ),
    "unequal-length": Kind(
        "Answers differ in length although all were asked to be equally long.",
        "Compare speeds per token, never whole durations.",
    ),
    "context-cut": Kind(
        "The engine cut answers at its context and called that the length asked for.",
        "Raise context, or ask for shorter prompts or answers.",
    ),
    "stalled": Kind(
        "The engine fell silent in the middle of answers.",
        "Read its last words; look whether the machine swapped, throttled or was suspended.",
    ),
    "incomplete": Kind(
        "Streams ended without their end marker; they are kept and not counted.",
        "Read the engine's last words on the cell sheet.",
    ),
    "tiny-prompt": Kind(
        "The prompt is so short that its prefill is mostly fixed overhead.",
        "Use a longer prompt before saying anything about prefill speed.",
    ),
    "noisy": Kind(
        "Repeats differ by more than the differences people care about.",
        "Close other programs, add repeats, or believe only large differences.",
    ),
    "fluke": Kind(
        "A repeat is far from all others; something else happened there. It is shown and still counted.",
        "Open the cell and look at that repeat; add repeats.",
    ),
    "drift": Kind(
        "The figure goes steadily one way over the run, so repeats are not of the same thing.",
        "Let the machine reach its working temperature first, and keep the order interleaved.",
    ),
    "thin-percentile": Kind(
        "Too few requests for the far percentiles: such a figure is the luck of a few.",
        "Raise requests, or read the median and the p90 only.",
    ),
    "no-steady-window": Kind(
        "The wanted load was never held long enough to call a throughput steady.",
        "Raise requests to at least four for each stream.",
    ),
    "stolen-time": Kind(
        "The hypervisor gave this machine's processor time to others.",
        "Measure on a machine of your own, or believe ratios of one interleaved run only.",
    ),
    "busy-machine": Kind(
        "Other programs were using the processor while this was measured.",
        "Close them and measure these cells again.",
    ),
    "observer-heavy": Kind(
        "Measuring itself took a noticeable share of the processor.",
        "Measure without the screen, or with fewer streams.",
    ),
    "counted-by-chunks": Kind(
        "The engine gives no token counts, so chunks are counted, and a chunk need not be a token.",
        "Take tokens per second of this engine as chunks per second.",
    ),
    "errors": Kind(
        "Requests failed; they are kept and not counted.",
        "Open the cell to read what each one said.",
    ),
    "spilled": Kind(
        "The model is not where it was thought to be: decoding is far slower than its memory allows.",
        "Look at Fit for this rig: shorten the context, or take a smaller quantization.",
    ),
    "over-threaded": Kind(
        "There are more threads than physical cores, which is rarely faster.",
        "Compare with as many threads as cores.",
    ),
}
