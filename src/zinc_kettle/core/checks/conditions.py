"""What has to hold of a choice, as it is typed."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Literal

from zinc_kettle.core.measures import MEASURES
from zinc_kettle.core.plan.decide import PRICE
from zinc_kettle.core.units import TYPED_UNITS

PROMISE = "promise"
KEPT = "promise_kept"
"""The measure that tells how far a promise is kept."""
TYPED_AS = "decode >= 7, memory <= 8 GB, decode keeps 80%, promise, price <= 1500"
"""Conditions as a person types them."""
ConditionKind = Literal["promise", "least", "most", "keeps"]
_BOUND = re.compile(r"(?P<name>[a-z_0-9]+)\s*(?P<sign>>=|<=|≥|≤)\s*(?P<number>\d+(?:\.\d+)?)\s*(?P<unit>\S*)\Z")
_KEEPS = re.compile(r"(?P<name>[a-z_0-9]+)\s+keeps\s+(?P<number>\d+(?:\.\d+)?)\s*%\Z")


@dataclass(frozen=True, slots=True)
class Condition:
    """Something that has to hold of a choice."""

    kind: ConditionKind
    measure: str
    limit: float
    """In the measure's unit; of `keeps` a share."""


def read_condition(text: str, *, percentile: float) -> Condition:
    """A condition as it is typed.

    Args:
        text: Such as `decode >= 7`, `memory <= 8 GB`, `decode keeps 80%`, `promise`, `price <= 1500`.
        percentile: So many percent of the requests must keep a promise.

    Raises:
        ValueError: It is none; the message says why.
    """
    said = text.strip()
    if said == PROMISE:
        return Condition("promise", KEPT, percentile / 100)
    keeps, bound = _KEEPS.match(said), _BOUND.match(said)
    found = keeps or bound
    if found is None:
        raise ValueError("it is neither promise, nor a measure or price with a bound, nor a share that is kept")
    name = found["name"]
    if name not in MEASURES and (name != PRICE or keeps is not None):
        raise ValueError(f"{name!r} is not a measure")
    number = float(found["number"])
    if keeps is not None:
        return Condition("keeps", name, number / 100)
    assert bound is not None
    own = "" if name == PRICE else MEASURES[name].unit
    units = {"": 1.0} | TYPED_UNITS.get(own, {own: 1.0})
    if bound["unit"] not in units:
        raise ValueError(f"{name} is given in {', '.join(unit for unit in units if unit)}")
    return Condition("least" if bound["sign"] in {">=", "≥"} else "most", name, number * units[bound["unit"]])
