"""Models as people say them: their size is met, mixes weigh what their parts do, and nonsense is refused."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from zinc_kettle.core.said_model import MIXES, mixed, said_model
from zinc_kettle.core.storage_types import STORAGE_TYPES


@given(st.floats(0.1, 500), st.sampled_from(["at 4 bits", "Q8_0", "q4_k_m", "@ Q5_K_S", ""]))
def test_the_size_is_met(size: float, stored: str) -> None:
    """Within 1% from a billion on, and 5% below, whatever it is stored as."""
    said = f"{size:.3g}"
    shape = said_model(f"{said}b {stored}")
    assert shape is not None
    assert shape.weights == pytest.approx(float(said) * 1e9, rel=0.01 if size >= 1 else 0.05)


@pytest.mark.parametrize(
    ("said", "bits"), [("70b at 4 bits", 4.5), ("8B 8 bits", 8.5), ("14b at 6 bits", 6.5625), ("3b", 16)]
)
def test_bits_name_a_storage_type(said: str, bits: float) -> None:
    """The one whose blocks take so many bits and their scales."""
    shape = said_model(said)
    assert shape is not None and shape.bits_per_weight == pytest.approx(bits, rel=0.01)


@pytest.mark.parametrize("mix", MIXES)
def test_a_mix_lies_between_its_parts(mix: str) -> None:
    """No weight is lost, and the bits are those of its two types in their shares, worked out by hand."""
    plain = said_model("8b F16")
    assert plain is not None
    shape, (base, higher, share) = mixed(plain, mix), MIXES[mix]
    assert shape.weights == plain.weights and shape.label == mix
    low, high = STORAGE_TYPES[base].bits_per_weight, STORAGE_TYPES[higher].bits_per_weight
    out = sum(g.weights for g in plain.groups if g.kind == "output")
    rest = plain.weights - out
    wanted = (out * high + rest * (share * high + (1 - share) * low)) / plain.weights
    assert low < shape.bits_per_weight < high and shape.bits_per_weight == pytest.approx(wanted, rel=0.002)


def test_what_is_no_model() -> None:
    """A file's name is none; a size or a precision that cannot be is refused with what could be."""
    assert said_model("brine-60m.Q8_0.gguf") is None and said_model("models/8b.gguf") is None
    for text, said in (("0.001b", "laid out"), ("8b Q4_K_X", "Q4_K"), ("8b at home", "precision")):
        with pytest.raises(ValueError, match=said):
            said_model(text)
