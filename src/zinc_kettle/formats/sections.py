"""The sections of a study file, as pydantic models: every field with its bounds."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import AfterValidator, BaseModel, ConfigDict, Field, model_validator

from zinc_kettle.core.address import address_problem
from zinc_kettle.core.faults import is_fault
from zinc_kettle.core.measures import MEASURES
from zinc_kettle.core.names import name_pattern
from zinc_kettle.core.stats.ratios import MIN_FOR_CLAIM
from zinc_kettle.core.traffic import MAX_TOKENS_DRAWN

Seconds = Annotated[float, Field(gt=0, le=86_400, strict=False)]
SecondsOrNone = Annotated[float, Field(ge=0, le=86_400, strict=False)]
Tokens = Annotated[int, Field(ge=1, le=MAX_TOKENS_DRAWN)]
MAX_CEILING = 10_000
UNTIL_FLOOR = 6
"""Fewer repeats carry no 95% interval, and nothing to stop by."""


def _address(text: str) -> str:
    problem = address_problem(text)
    if problem:
        raise ValueError(problem)
    return text


Address = Annotated[str, AfterValidator(_address)]
"""Of an engine that already runs."""


class Section(BaseModel):
    """Base of all sections: nothing unknown, nothing converted, nothing changed."""

    model_config = ConfigDict(extra="forbid", frozen=True, strict=True)


class RepeatsSection(Section):
    """`[repeats]`"""

    count: Annotated[int, Field(ge=1, le=MAX_CEILING)] | None = None
    requests: Annotated[int, Field(ge=1, le=100_000)] | None = None
    warm_up: Annotated[int, Field(ge=0, le=100)] = 1
    order: Literal["interleaved", "by-launch"] = "interleaved"
    until_percent: Annotated[float, Field(gt=0, le=100, strict=False)] | None = None
    until_answered: str | None = None
    smallest_percent: Annotated[float, Field(ge=0.1, le=100, strict=False)] | None = None
    until_measure: str = "decode"
    ceiling: Annotated[int, Field(ge=1, le=MAX_CEILING)] | None = None

    @model_validator(mode="after")
    def _until(self) -> RepeatsSection:
        if self.until_measure not in MEASURES:
            raise ValueError(
                f"until_measure = {self.until_measure!r} is not a measure; decode and ttft are two of them"
            )
        if self.until_percent is not None and self.until_answered is not None:
            raise ValueError("until_percent and until_answered cannot both decide; keep one")
        if self.smallest_percent is not None and self.until_answered is None:
            raise ValueError("smallest_percent only applies with until_answered")
        if self.floor is None:
            if self.ceiling is not None:
                raise ValueError("ceiling only applies with until_percent or until_answered")
            return self
        if self.count is not None and self.count < self.floor:
            which = "until_percent" if self.until_percent is not None else "until_answered"
            raise ValueError(f"{which} needs count = {self.floor} or more: fewer repeats carry no 95% interval")
        if self.ceiling is not None and self.ceiling < (self.count or self.floor):
            raise ValueError("ceiling is below count, the floor")
        if self.until_answered is not None and MEASURES[self.until_measure].better == "neither":
            raise ValueError(f"until_measure = {self.until_measure!r} has no better or worse")
        return self

    @property
    def floor(self) -> int | None:
        """The fewest repeats where what is measured decides how many; None where their number is fixed."""
        if self.until_answered is not None:
            return MIN_FOR_CLAIM
        return None if self.until_percent is None else UNTIL_FLOOR


class LimitsSection(Section):
    """`[limits]`, in seconds."""

    request_s: Seconds = 600.0
    stall_s: Seconds = 120.0
    load_s: Seconds = 300.0
    quiet_s: SecondsOrNone = 0.0
    total_s: Annotated[float, Field(ge=0, le=7 * 86_400, strict=False)] = 0.0


class LengthsSection(Section):
    """`[prompts.lengths]` and `[prompts.outputs]`: a distribution of token counts."""

    kind: Literal["fixed", "uniform", "lognormal", "table"]
    tokens: Tokens | None = None
    low: Tokens | None = None
    high: Tokens | None = None
    median: Annotated[float, Field(ge=1, le=MAX_TOKENS_DRAWN, strict=False)] | None = None
    sigma: Annotated[float, Field(gt=0, le=5, strict=False)] | None = None
    table: Annotated[
        list[tuple[Tokens, Annotated[float, Field(gt=0, strict=False, allow_inf_nan=False)]]], Field(max_length=1_000)
    ] = []

    @model_validator(mode="after")
    def _complete(self) -> LengthsSection:
        needs = {
            "fixed": ("tokens",),
            "uniform": ("low", "high"),
            "lognormal": ("median", "sigma", "high"),
            "table": ("table",),
        }[self.kind]
        missing = [name for name in needs if not getattr(self, name)]
        if missing:
            raise ValueError(f"{self.kind} needs {', '.join(missing)}")
        if self.low is not None and self.high is not None and self.low > self.high:
            raise ValueError("low is above high")
        return self


class PromptsSection(Section):
    """`[prompts]`"""

    files: Annotated[list[Annotated[str, Field(min_length=1, max_length=1_000)]], Field(max_length=1_000)] = []
    sample: Annotated[int, Field(ge=1, le=1_000_000)] | None = None
    lengths: LengthsSection | None = None
    outputs: LengthsSection | None = None


class LoadSection(Section):
    """`[load]`"""

    shape: Literal["closed", "burst", "batch", "open", "conversation"] = "closed"
    arrivals: Literal["constant", "poisson", "recorded"] = "poisson"
    times_file: str | None = None
    think_s: SecondsOrNone = 0.0
    turns: Annotated[int, Field(ge=1, le=1_000)] = 4
    drivers: Annotated[int, Field(ge=0, le=64)] = 0

    @model_validator(mode="after")
    def _fits(self) -> LoadSection:
        if (self.arrivals == "recorded") != (self.times_file is not None):
            raise ValueError('recorded arrivals need times_file = "NAME.csv", and no other arrivals use it')
        if self.think_s and self.shape not in {"closed", "conversation"}:
            raise ValueError(
                f"think_s does not apply to the shape {self.shape}: think_s goes with closed and conversation"
            )
        return self


class RetrySection(Section):
    """`[retry]`"""

    times: Annotated[int, Field(ge=0, le=100)] = 0
    on: list[str] = ["refused", "http-429", "http-503"]
    wait_s: SecondsOrNone = 1.0
    backoff: Annotated[float, Field(ge=1, le=10, strict=False)] = 2.0
    most_s: SecondsOrNone = 30.0

    @model_validator(mode="after")
    def _known(self) -> RetrySection:
        unknown = [code for code in self.on if not is_fault(code)]
        if unknown:
            raise ValueError(f"{unknown[0]!r} is not a fault code; docs/faults.md lists them")
        return self


class PromiseSection(Section):
    """`[promise]`: what users are promised, in seconds."""

    ttft_s: Seconds | None = None
    tpot_s: Seconds | None = None
    percentile: Annotated[float, Field(ge=50, lt=100, strict=False)] = 95.0
    failures_percent: Annotated[float, Field(ge=0, lt=100, strict=False)] = 1.0


class CapacitySection(Section):
    """`[capacity]`: a search for the largest load that keeps the promise."""

    factor: Literal["concurrency", "rate"]
    most: Annotated[int, Field(ge=1, le=1_000_000)] = 1024
    within_percent: Annotated[float, Field(ge=1, le=50, strict=False)] = 5.0
    steps: Annotated[int, Field(ge=3, le=40)] = 12
    hold_s: Annotated[float, Field(ge=1, le=86_400, strict=False)] = 20.0


class DesignSection(Section):
    """`[design]`: how the levels are combined."""

    kind: Literal["all", "one-at-a-time"] = "all"
    baseline: dict[str, str | int | bool] = {}
    ties: list[list[str]] = []
    without: list[dict[str, str | int | bool | list[str | int | bool]]] = []

    @model_validator(mode="after")
    def _fits(self) -> DesignSection:
        if self.baseline and self.kind == "all":
            raise ValueError('a baseline only applies with kind = "one-at-a-time"')
        if any(not rule for rule in self.without):
            raise ValueError("an empty combination would leave out every cell")
        return self


class EndpointSection(Section):
    """`[endpoint]`: an engine that already runs."""

    url: Address
    model: str = "default"
    key_variable: Annotated[str, Field(pattern=r"^[A-Za-z_][A-Za-z0-9_]*$")] | None = None
    key_file: Annotated[str, Field(min_length=1, max_length=1_000)] | None = None
    ca_file: Annotated[str, Field(min_length=1, max_length=1_000)] | None = None

    @model_validator(mode="after")
    def _one_key(self) -> EndpointSection:
        if self.key_variable is not None and self.key_file is not None:
            raise ValueError("the key comes from key_variable or from key_file, not from both")
        return self


class StudyFile(Section):
    """The whole file."""

    format: Literal[1]
    name: Annotated[str, Field(pattern=name_pattern())]
    question: Annotated[str, Field(min_length=1, max_length=300)]
    seed: Annotated[int, Field(ge=0, lt=1 << 31)] = 1
    temperature: Annotated[float, Field(ge=0, le=5, strict=False)] = 0.0
    vary: dict[str, list[str | int | bool]]
    hold: dict[str, str | int | bool] = {}
    prompts: PromptsSection = PromptsSection()
    repeats: RepeatsSection = RepeatsSection()
    limits: LimitsSection = LimitsSection()
    load: LoadSection = LoadSection()
    retry: RetrySection = RetrySection()
    promise: PromiseSection = PromiseSection()
    capacity: CapacitySection | None = None
    design: DesignSection = DesignSection()
    endpoint: EndpointSection | None = None
