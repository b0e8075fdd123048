"""When a verdict changed, for people: what it is today, and each commit that changed it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from crossgate.formats.past import AnswerChange, Since, Version, VersionAnswer
from crossgate.show.console import count, quiet, strong, word
from crossgate.show.width import columns


def lines(found: Sequence[Since], ends: str) -> Iterator[str]:
    """Yield how answers changed, those that changed alike as one; `ends` are those of the
    conversations that were asked about, "" for a claim.
    """
    alike: dict[tuple[object, ...], list[Since]] = {}
    for each in found:
        alike.setdefault((each.today, each.changes), []).append(each)
    for number, several in enumerate(alike.values()):
        yield from [""] * bool(number)
        yield f"{strong(', '.join(each.asked for each in several))}  {ends}".rstrip()
        yield from columns(_rows(several[0]), indent=2)


def _rows(since: Since) -> Iterator[list[str]]:
    yield ["today", *_told(since.today)]
    for change in since.changes:
        yield from _change(change, since.today)
    lead = "" if since.changes else "always, "
    yield ["", "", quiet(f"{lead}as far back as git knows, {_made(since.oldest)}")]


def _change(change: AnswerChange, today: VersionAnswer) -> Iterator[list[str]]:
    commit = change.version.commit
    if commit is None:
        yield ["since", "", "now: it is not committed yet"]
    else:
        yield ["since", "", f"{_made(change.version)}  {commit.author}  {strong(commit.subject)}"]
        if change.now != today:
            yield ["", *_told(change.now)]
    if change.skipped:
        yield ["", "", quiet(f"or one of {count(change.skipped, 'commit')} before it with errors")]
    yield ["before", *_told(change.before)]


def _told(answer: VersionAnswer) -> list[str]:
    line = f": {answer.line}" if answer.line else ""
    return [word(answer.verdict), f"{answer.why}{line}"]


def _made(version: Version) -> str:
    commit = version.commit
    return "today" if commit is None else f"{commit.made:%a %Y-%m-%d %H:%M}  {commit.id[:10]}"
