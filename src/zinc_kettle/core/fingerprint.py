"""Fingerprints: two things are the same when their canonical text hashes alike."""

from __future__ import annotations

import hashlib
import json

DEFINITIONS_VERSION = 4
"""Version of the definitions in docs/measures.md, listed in docs/definitions.md; part of every workload fingerprint."""


def fingerprint(value: object, *, length: int = 16) -> str:
    """Hash a JSON-like value independent of the order of its keys.

    Args:
        value: Made of dict, list, tuple, str, int, float, bool and None.
        length: Hexadecimal digits kept.

    Raises:
        TypeError: The value holds something JSON has no word for.
    """
    text = json.dumps(value, sort_keys=True, separators=(",", ":"), ensure_ascii=True)
    return hashlib.sha256(text.encode()).hexdigest()[:length]
