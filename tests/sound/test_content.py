"""Content keys: one explicit way to write a value, which stays as it is."""

from dataclasses import dataclass, replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from escalera.core.document.song import Variation
from escalera.sound.content import content_key, encoded


@dataclass(frozen=True)
class Spec:
    name: str
    gain: float = 1.0
    parts: tuple = ()


# what the present encoding makes of values; a change of these orphans every print and cache
VECTORS = [
    ((), "4129e2a8044a57ce7635fd6023661cd6"), (("unit", 2, 0.5, None, True), "06f7365965742c2a76e73177f0dded91"), (((("a", 1.0), ("b", -0.0)),), "89720fbd42457902e893a292d3d7683e"),
    ((np.arange(3, dtype=np.int32), b"x"), "de2ead573b3a0d26e170699ca4bc10a3"), ((Spec("pad", 0.5, (Variation(keep=0.5),)),), "72379cf0a17540c3c6f4b34b3c6c0862"), (({"b": 2, "a": [1]}, frozenset({"x", "y"})), "0089f985b7cc2365a60a7daa7aad29d1"),
]  # fmt: skip


@pytest.mark.parametrize("parts, key", VECTORS, ids=range(len(VECTORS)))
def test_keys_stay_as_they_are(parts, key):
    assert content_key(*parts) == key


values = st.recursive(
    st.none()
    | st.booleans()
    | st.integers()
    | st.floats(allow_nan=False)
    | st.text(max_size=8)
    | st.binary(max_size=8),
    lambda inner: st.lists(inner, max_size=4).map(tuple),
    max_leaves=12,
)


@given(values, values)
def test_values_are_written_alike_only_when_they_are_equal(a, b):
    assert (encoded(a) == encoded(b)) == (a == b)


def test_a_field_at_its_default_is_not_written_and_another_value_is():
    plain = Spec("pad")
    assert b"gain" not in encoded(plain) and encoded(replace(plain, gain=0.5)) != encoded(plain)
    assert encoded(Spec("pad", 1)) == encoded(Spec("pad", 1.0)) and encoded(np.float64(0.5)) == encoded(0.5)
    with pytest.raises(TypeError, match="no place in a content key"):
        encoded(object())
