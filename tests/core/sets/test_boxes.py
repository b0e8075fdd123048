"""Boxes against sets that are counted out, and lists as regions against the list itself, packet by
packet.
"""

from __future__ import annotations

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from crossgate.core.model.address import Family
from crossgate.core.sets.boxes import LOW_BITS, Box, covers, minus, overlap

slow = settings(
    max_examples=40,
    deadline=None,
    suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow],
)


@st.composite
def boxes(draw: st.DrawFn) -> Box:
    """Draw boxes that differ in two bits of each address and in a small span of each number."""
    wildcard = (
        draw(st.integers(0, 3)) << LOW_BITS
        | draw(st.integers(0, 3)) << (LOW_BITS + 32)
        | draw(st.sampled_from([0, 256]))
    )
    value = (
        draw(st.integers(0, 3)) << LOW_BITS
        | draw(st.integers(0, 3)) << (LOW_BITS + 32)
        | draw(st.sampled_from([0, 256]))
    )
    spans = [sorted((draw(st.integers(0, 3)), draw(st.integers(0, 3)))) for _ in range(3)]
    return Box(Family.IPV4, value & ~wildcard, wildcard, *(end for span in spans for end in span))


def points(box: Box) -> set[tuple[int, ...]]:
    """Count a small box out."""
    bits = [
        bit
        for bit in (1 << LOW_BITS, 2 << LOW_BITS, 1 << LOW_BITS + 32, 2 << LOW_BITS + 32, 256)
        if box.wildcard & bit
    ]
    values = [box.value]
    for bit in bits:
        values += [value | bit for value in values]
    return {
        (value, protocol, client, port)
        for value in values
        for protocol in range(box.protocol_first, box.protocol_last + 1)
        for client in range(box.source_first, box.source_last + 1)
        for port in range(box.port_first, box.port_last + 1)
    }


@given(boxes(), boxes())
def test_overlap_and_cover_are_those_of_the_sets(one: Box, other: Box) -> None:
    common = overlap(one, other)
    assert (points(common) if common else set()) == points(one) & points(other)
    assert covers(one, other) is (points(other) <= points(one))


@given(boxes(), boxes())
def test_what_is_left_are_boxes_apart_that_hold_just_the_rest(box: Box, other: Box) -> None:
    part = overlap(box, other)
    if part is None:
        return
    pieces = [points(piece) for piece in minus(box, part)]
    assert sum(map(len, pieces)) == len(set().union(*pieces))
    assert set().union(*pieces) == points(box) - points(other)
