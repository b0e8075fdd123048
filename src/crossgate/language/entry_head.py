"""What every entry begins with."""

from __future__ import annotations

from crossgate.core.model.entry import MOST_NUMBER, Action
from crossgate.language.words import Words

ACTION_WORDS = {action.value: action for action in Action}


def entry_head(words: Words, next_number: int) -> tuple[int, bool, int, Action]:
    """Take what an entry begins with; return its number, whether it is off, the index of the action
    among the words, and the action.
    """
    number = next_number
    if words.words[0].isdecimal():
        number = words.number("an entry number", MOST_NUMBER)
    start = words.index
    action = ACTION_WORDS.get(words.peek())
    off = action is None and words.accept("off")
    if off:
        start = words.index
        action = ACTION_WORDS.get(words.peek())
    if action is None:
        words.choice(
            ACTION_WORDS,
            "permit, deny or reject"
            if off or start
            else "an entry (permit, deny or reject), note or otherwise",
        )
        raise AssertionError
    words.index += 1
    return number, off, start, action
