"""Plans and decisions as text: typed on the way back, and nothing dropped without a word."""

from __future__ import annotations

import json
from dataclasses import replace
from typing import Any

import msgspec

from zinc_kettle.core.fingerprint import fingerprint
from zinc_kettle.core.plan.study import Study, to_plain
from zinc_kettle.core.run.decisions import Decision
from zinc_kettle.errors import StoreError
from zinc_kettle.store.version2 import ENGINE_2
from zinc_kettle.wire.decisions import DecisionRow, row_of
from zinc_kettle.wire.decisions import decision_of as from_row


def plan_text(study: Study) -> str:
    """A plan for keeping."""
    return json.dumps(to_plain(study))


def study_of(text: str) -> Study:
    """A plan as it was kept; fields that it did not have then get their defaults.

    Raises:
        StoreError: It is damaged, or has a field this version does not know.
    """
    try:
        plain = json.loads(text)
        study = msgspec.convert(plain, Study)
    except (ValueError, RecursionError) as error:
        raise StoreError("a stored plan cannot be read", why=str(error)) from error
    if "engines" not in plain and study.endpoint is None:
        study = replace(study, engines=(ENGINE_2,))
    unknown = _missing(plain, to_plain(study))
    if unknown:
        raise StoreError(
            f"a stored plan has a field {unknown!r} unknown to this version",
            remedy="open the store with a newer Zinc Kettle",
        )
    return study


def plan_key(study: Study) -> str:
    """The same for the same plan; what has its default does not count, so that fields added later change no key.

    Nor does what recipes declare: a setting that is added to an engine makes no other study of one that is kept. Nor
    what is to be decided, which changes nothing that is measured.
    """
    default = to_plain(Study(name="", question="", vary={}))
    plain = {**to_plain(study), "engines": (), "decide": default["decide"]}
    return fingerprint(_stripped(plain, default), length=32)


def _stripped(value: Any, default: Any) -> Any:
    """A nested value without the entries that are as the default has them."""
    if not isinstance(value, dict) or not isinstance(default, dict):
        return value
    return {
        name: _stripped(item, default.get(name))
        for name, item in value.items()
        if name not in default or item != default[name]
    }


def _missing(given: Any, known: Any, path: str = "") -> str:
    """The first key of a nested value that another one does not have; empty where it has all."""
    if isinstance(given, dict) and isinstance(known, dict):
        for name, value in given.items():
            where = f"{path}.{name}" if path else str(name)
            if name not in known:
                return where
            found = _missing(value, known[name], where)
            if found:
                return found
    return ""


def decision_text(decision: Decision) -> str:
    """A decision for keeping."""
    return msgspec.json.encode(row_of(decision)).decode()


def decision_of(text: str) -> Decision:
    """A decision as it was kept.

    Raises:
        StoreError: It is damaged, or of a kind this version does not know.
    """
    try:
        return from_row(msgspec.json.decode(text, type=DecisionRow))
    except msgspec.MsgspecError as error:
        raise StoreError(
            "a stored decision cannot be read", why=str(error), remedy="open the store with a newer Zinc Kettle"
        ) from error
