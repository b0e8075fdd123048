"""The tests of a plan's sheet made with real packets, and the counters of lines compared with
them.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

from crossgate.core.answers.sheet import SheetRow, SheetWanted, sheet
from crossgate.core.answers.sheet import tests as by_hand
from crossgate.core.answers.sheet.words import command_line, plain_words, reason_text
from crossgate.core.model.accesslist import DeciderKey
from crossgate.core.model.conditions import When
from crossgate.core.model.packet import CLIENT_PORT
from crossgate.rehearsal.attempts import Attempt, SeenByMachine, Try, outcome, try_all
from crossgate.rehearsal.network import Rehearsal

_WANTED = {
    by_hand.SeenInTest.ANSWERED: (SeenByMachine.ANSWERED,),
    by_hand.SeenInTest.REFUSED: (SeenByMachine.REFUSED,),
    by_hand.SeenInTest.SILENCE: (SeenByMachine.SILENCE, SeenByMachine.HALF),
}
"""What is to be seen here of what a person is to see."""


def try_sheet(
    rehearsal: Rehearsal,
    lists: Sequence[str],
    within: float,
    tell: Callable[[dict[str, Any]], None],
) -> None:
    """Make the tests of a sheet for some lists, all where none is named, and pass each result to
    `tell`; then, for each line that decides about them, how many packets it counted, and how many
    it should have counted at least.
    """
    network = rehearsal.fabric.network
    when = When(rehearsal.fabric.clock())
    plan = network.plan
    made = sheet(network, when, SheetWanted([plan.lists[name] for name in lists]))
    attempts = {row.number: _attempt(rehearsal, row) for row in made.rows}
    rows = [row for row in made.rows if attempts[row.number] is not None]
    before = dict(rehearsal.fabric.lists.tally)

    def done(tries: list[Try]) -> None:
        for row, tried in zip(rows, tries, strict=True):
            tell({**_of(row), **outcome([tried])})
        for row in made.rows:
            if attempts[row.number] is None:
                tell({**_of(row), "tried": [], "held": None, "why": "no machine gets it"})
        least: dict[DeciderKey, int] = {}
        for row in rows:
            for line in row.tried.deciders:
                if line.access_list in plan.lists:  # lists of frames stop ARP, which none counts
                    least[line] = least.get(line, 0) + 1
        after = rehearsal.fabric.lists.tally
        for line, wanted in least.items():
            found = after.get(line, 0) - before.get(line, 0)
            tell({"list": line.access_list, "entry": line.entry, "least": wanted, "counted": found})
        tell({"sheet": True})

    try_all(rehearsal, [each for each in attempts.values() if each is not None], within, done)


def _attempt(rehearsal: Rehearsal, row: SheetRow) -> Attempt | None:
    conversation = row.tried.conversation
    sent = rehearsal.fabric.arriving(conversation)
    if sent is None:
        return None
    wanted = _WANTED[row.tried.seen]
    if row.tried.ending.leg.settles:
        wanted = (SeenByMachine.ANSWERED, SeenByMachine.HALF)  # it is cut off once its TLS is known
    fixed = conversation.first.source_port not in (None, CLIENT_PORT)
    return Attempt(conversation, str(row.tried.seen), wanted, *sent, fixed, None)


def _of(row: SheetRow) -> dict[str, Any]:
    return {
        "test": row.number,
        "what": plain_words(row.tried),
        "command": command_line(row.tried),
        "why": "",
        "reasons": [reason_text(each) for each in row.reasons],
    }
