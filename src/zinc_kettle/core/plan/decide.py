"""What a study is to decide: which levels are chosen among, by which measure, against what one has, and what must hold.

Some factors are conditions and never chosen: nobody picks one stream because it is faster than eight. Loads, lengths,
depths, tasks and models are such, unless a plan names them.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Annotated

from annotated_types import Len

from zinc_kettle.core.declared import About
from zinc_kettle.core.plan.factors import Factor, Level

CONDITIONS = frozenset({"load", "prompt"})
"""Kinds of factors that say how an engine is used."""
MODEL = "model"
"""Another model gives other answers: which one is not decided by speed, unless a plan says so."""
PRICE = "price"
"""Stands in place of a measure: the cheapest rig."""


@dataclass(frozen=True, slots=True)
class Decide:
    """What is to be decided."""

    choose: Annotated[
        tuple[Annotated[str, Len(1, 40)], ...],
        Len(0, 8),
        About(
            "choose",
            "The factors whose levels are chosen among. By default all that vary, without models, loads and lengths.",
            "rig, quantization",
            blank=True,
        ),
    ] = ()
    by: Annotated[
        str,
        Len(0, 40),
        About("by", "The measure that decides, or price. By default speed, or the wait of many.", "decode", blank=True),
    ] = ""
    baseline: Annotated[
        dict[str, Level],
        About("baseline", "What you have now: a level of each factor that is chosen.", "rig=petrel", kind="levels"),
    ] = field(default_factory=dict)
    provided: Annotated[
        tuple[Annotated[str, Len(1, 80)], ...],
        Len(0, 8),
        About(
            "provided",
            "What has to hold: promise, a measure with a bound, or the share of it that is kept at every depth.",
            "promise, decode >= 7, memory <= 8 GB, decode keeps 80%, price <= 1500",
            blank=True,
        ),
    ] = ()


def chosen_factors(
    decide: Decide, vary: Mapping[str, Sequence[Level]], leading: Sequence[str], factors: Mapping[str, Factor]
) -> tuple[str, ...]:
    """The factors whose levels are chosen among, in the order of the plan; none where only conditions vary.

    Args:
        decide: What a plan says of it.
        vary: Its factors with their levels.
        leading: Those of them that follow no other.
        factors: All factors of the study.
    """
    if decide.choose:
        return tuple(name for name in leading if name in decide.choose)
    return tuple(name for name in leading if len(vary[name]) > 1 and not is_condition(name, factors[name]))


def is_condition(name: str, factor: Factor | None) -> bool:
    """True for a factor that nobody chooses for its speed, unless a plan says so.

    Args:
        name: Its name.
        factor: What is declared of it; None for a setting of an engine that is not known here.
    """
    return name == MODEL or (factor is not None and factor.kind in CONDITIONS)
