"""Reading a plan again: what has not changed is kept, and the plan is the one that reading from
nothing gives.
"""

from __future__ import annotations

from pathlib import Path

from hypothesis import given, settings
from hypothesis import strategies as st

from crossgate.core.model.errors import PlanError
from crossgate.language.kept import Kept
from crossgate.language.reader import Reading, attempt

LINES = [
    "# a comment",
    "    # a comment in a block",
    "",
    '    note "on what follows"',
    "subnet here 10.1.0.0/16",
    "subnet far 10.2.0.0/16",
    "subnet far 10.3.0.0/16",
    "group some 10.1.0.0/24",
    "service web tcp/80",
    "service web tcp/80,443",
    "window night daily 22:00-06:00",
    "list one extended ipv4",
    "list two extended ipv4",
    "list one standard ipv4",
    "    10 permit web some to far",
    "    20 deny ip any to far during night",
    "    permit tcp any to any at most 5 a second",
    "    otherwise permit",
    "    30 permit some",
    "    30 permit nothing-known",
    "    10 permit web some to far  # said twice",
    "expect permit web some to far",
]


BEGINNING = [
    "subnet here 10.1.0.0/16",
    "subnet far 10.2.0.0/16",
    "group some 10.1.0.0/24",
    "service web tcp/80",
    "list one extended ipv4",
    "    10 permit web some to far",
    "list two extended ipv4",
    "    10 permit web some to far",
    '    note "on what follows"',
    "    20 permit udp any to any",
    "    otherwise permit",
]


def said(found: tuple[Reading, list[PlanError]]) -> object:
    """Return all that a reading says."""
    plan = found[0].plan
    lists = [
        (
            name,
            each.kind,
            each.place,
            (each.otherwise, each.otherwise.place),
            [(note.text, note.place) for note in each.notes],
            [
                (entry.number, entry.meaning, entry.window, entry.limit, entry.off, entry.place)
                for entry in each.entries
            ],
        )
        for name, each in plan.lists.items()
    ]
    return lists, plan.expectations, [(error.place, error.message) for error in found[1]]


@settings(deadline=None)
@given(
    st.lists(
        st.tuples(st.integers(0, 12), st.integers(0, 3), st.sampled_from(LINES)),
        min_size=1,
        max_size=12,
    )
)
def test_what_is_kept_reads_as_from_nothing(edits: list[tuple[int, int, str]]) -> None:
    path, kept = Path("plan.gate"), Kept()
    lines = [*BEGINNING]
    for at, out, line in edits:
        lines[at : at + out] = [line]
        data = {"plan.gate": "\n".join(lines).encode()}
        assert said(attempt(path, data, kept)) == said(attempt(path, data))


def test_an_entry_that_has_not_changed_is_the_same_one() -> None:
    path, kept = Path("plan.gate"), Kept()
    text = "list one extended ipv4\n    10 permit tcp any to any\n    20 permit udp any to any\n"
    first = attempt(path, {"plan.gate": text.encode()}, kept)[0].plan.lists["one"].entries
    second = (
        attempt(path, {"plan.gate": text.replace("permit udp", "deny udp").encode()}, kept)[0]
        .plan.lists["one"]
        .entries
    )
    assert second[0] is first[0]
    assert second[1] is not first[1]


def test_a_list_that_has_only_moved_is_not_read_again() -> None:
    path, kept = Path("plan.gate"), Kept()
    text = "list one extended ipv4\n    10 permit tcp any to any\n"
    first, second = (
        attempt(path, {"plan.gate": (above + text).encode()}, kept)[0].plan.lists["one"]
        for above in ("", "# a comment\n\n")
    )
    assert (first.place.line, second.place.line) == (1, 3)
    old, new = first.entries[0], second.entries[0]
    assert (old.place.line, new.place.line) == (2, 4)
    assert new.service is old.service
    assert new.has_only_moved(old)


def test_changed_bytes_are_read_once_and_other_bytes_anew() -> None:
    text = "list one extended ipv4\n    10 permit tcp any to any\n"
    reading, _ = attempt(Path("plan.gate"), {"plan.gate": text.encode()})
    data = [
        {"plan.gate": text.replace("tcp", protocol).encode()} for protocol in ("udp", "sctp", "udp")
    ]
    first, again, other, back = (reading.changed(each) for each in (data[0], *data))
    assert again is first
    assert [each.plan.lists["one"].entries[0].service.text for each in (first, other, back)] == [
        "udp",
        "sctp",
        "udp",
    ]
