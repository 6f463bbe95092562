"""Decisions as they are kept and carried: one flat row for all kinds, which has not changed since the first store."""

from __future__ import annotations

from dataclasses import fields
from typing import Any

import msgspec

from zinc_kettle.core.plan.factors import Level
from zinc_kettle.core.run.decisions import KINDS, Author, Decision, Step

_OF_SEARCH = "looking for the limit"
"""Text that decisions of a search had before they said who took them."""


class DecisionRow(msgspec.Struct):
    """One decision."""

    kind: str
    at_s: float
    levels: dict[str, Level] = msgspec.field(default_factory=dict)
    count: int = 0
    step: Step | None = None
    caution: str = ""
    request: str = ""
    text: str = ""
    """What the kind has to say besides: a reason, a policy, a mark, a question."""
    by: Author = "person"


def row_of(decision: Decision) -> DecisionRow:
    """A decision as a row."""
    given = {of.name: getattr(decision, of.name) for of in fields(decision)}
    if decision.says:
        given["text"] = given.pop(decision.says)
    return DecisionRow(decision.kind, **given)


def decision_of(row: DecisionRow) -> Decision:
    """A row as the decision it is.

    Raises:
        msgspec.ValidationError: It is of a kind this version does not know, or its kind does not say such a thing.
    """
    of = KINDS.get(row.kind)
    if of is None:
        raise msgspec.ValidationError(f"unknown kind of decision: {row.kind!r}")
    plain: dict[str, Any] = msgspec.to_builtins(row)
    text = plain.pop("text")
    if of.says:
        plain[of.says] = text
    elif text == _OF_SEARCH:
        plain["by"] = "search"
    return msgspec.convert(plain, of)
