"""A plain sentence and of what kind it is."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

Tone = Literal["finding", "caution", "failure", "hint"]


@dataclass(frozen=True, slots=True)
class Sentence:
    """Something worth knowing, and of what kind."""

    tone: Tone
    text: str
