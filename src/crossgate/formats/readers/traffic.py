"""Traffic files of any kind, unpacked where they are compressed, and read in batches one after the
other.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import ExitStack
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

from crossgate.core.model.errors import PlanError
from crossgate.formats.readers.kinds import sniffed
from crossgate.formats.readers.names import TrafficColumn

if TYPE_CHECKING:
    from datetime import tzinfo

    from crossgate.core.model.address import Family
    from crossgate.core.traffic.seen import Seen
    from crossgate.formats.readers.capture import Account, ServerChoice
    from crossgate.formats.readers.ipfix import MessageAccount
    from crossgate.formats.readers.listening import Listening
    from crossgate.formats.readers.tables import TableAccount

STANDARD_INPUT = Path("-")
EXTRA = "pip install 'crossgate[traffic]'"


@dataclass
class FileRead:
    """What was read of one file, and what could not be used."""

    path: Path
    kind: str = ""
    capture: Account | None = None
    table: TableAccount | None = None
    messages: MessageAccount | None = None

    @property
    def rows(self) -> int:
        """How many frames or records were read."""
        return self.capture.frames if self.capture else self.table.rows if self.table else 0


@dataclass
class Traffic:
    """Some traffic files; `told` has an account of each that has been opened."""

    paths: list[Path]
    columns: Mapping[TrafficColumn, str]
    now: int
    pattern: str | None = None
    """How lines of logs are read, None for `key=value`."""
    zone: tzinfo | None = None
    """The zone of times in logs that name none, None for the system's."""
    listening: Listening | None = None
    """Where messages are waited for beside the files, None for nowhere."""
    told: list[FileRead] = field(default_factory=list)
    after: Mapping[str, int] | None = None
    """Up to when each file has been looked at, in microseconds, where only what came later is
    wanted; None for all.
    """
    latest: dict[str, int] = field(default_factory=dict)
    """Up to when each file has been read, where that is to be known."""
    left_out: int = 0
    """How many rows came before the last look."""

    def __post_init__(self) -> None:
        try:
            import pcapy  # noqa: F401
            import pyarrow  # noqa: F401
        except ImportError as error:
            raise PlanError(
                f"reading traffic needs the package {error.name}, which is not installed: {EXTRA}"
            ) from None

    @property
    def rows(self) -> int:
        """How many frames and records have been read so far."""
        return sum(each.rows for each in self.told)

    @property
    def octets(self) -> int:
        """How many octets of the files have been read so far, as far as that is known."""
        before = size([each.path for each in self.told[:-1]])
        last = self.told[-1] if self.told else None
        return before + (
            last.capture.octets if last is not None and last.capture is not None else 0
        )

    @property
    def broken(self) -> list[tuple[Path, str]]:
        """The files that could not be read to their end, each with where it broke off."""
        return [
            (each.path, account.broken)
            for each in self.told
            if (account := each.capture or each.messages) is not None and account.broken
        ]

    def batches(self) -> Iterator[tuple[dict[Family, Seen], bool]]:
        """Yield the traffic in batches, each with whether these are flow records. Raises
        `PlanError` for what cannot be read.
        """
        for path in self.paths:
            yield from self._later(str(path.resolve()), self._file(path))
        listening = self.listening
        if listening is not None:
            from crossgate.formats.readers.listening import messages

            told = FileRead(Path(listening.name), "ipfix")
            self.told.append(told)
            received = self._messages(told, lambda _: messages(listening))
            yield from self._later(listening.name, received)

    def _later(
        self, key: str, batches: Iterator[tuple[dict[Family, Seen], bool]]
    ) -> Iterator[tuple[dict[Family, Seen], bool]]:
        """Yield what came after the last look at a file, and note the time up to which it goes."""
        if self.after is None:
            yield from batches
            return
        last = self.after.get(key, -1)
        self.latest[key] = last
        for seen, flows in batches:
            found: dict[Family, Seen] = {}
            for family, each in seen.items():
                if len(each.first):
                    self.latest[key] = max(self.latest[key], int(each.first.max()))
                    later = each.first > last
                    self.left_out += len(later) - int(later.sum())
                    if later.any():
                        found[family] = each.take(later)
            yield found, flows

    def _messages(
        self, told: FileRead, found: Callable[[MessageAccount], Iterator[bytes]]
    ) -> Iterator[tuple[dict[Family, Seen], bool]]:
        from crossgate.formats.readers.ipfix import MessageAccount, ipfix_batches
        from crossgate.formats.readers.tables import TableAccount, read_batches

        told.table, told.messages = TableAccount(), MessageAccount()
        rows = ipfix_batches(found(told.messages), told.messages)
        name = str(told.path)
        for seen in read_batches(rows, self.columns, self.now, told.table, name):
            yield seen, True

    def _file(self, path: Path) -> Iterator[tuple[dict[Family, Seen], bool]]:
        from crossgate.formats.readers.capture import Account, CaptureSource, read_capture, unpacked

        told = FileRead(path)
        self.told.append(told)
        with ExitStack() as stack:
            source = (
                stack.enter_context(unpacked(path, "stdin", "standard input"))
                if path == STANDARD_INPUT
                else path
            )
            found = sniffed(source, path, log=self.pattern is not None)
            told.kind = found.kind
            if found.kind == "capture":
                verdict = self.columns.get(TrafficColumn.VERDICT)
                if verdict is not None:
                    raise PlanError(
                        f"{path} is a capture, and has no column {verdict}; --verdict is for "
                        "tables of flows"
                    )
                told.capture = Account()
                for seen in read_capture(
                    CaptureSource(source, found.packed, str(path)), told.capture, str(path)
                ):
                    yield seen, False
                return
            from crossgate.formats.readers.tables import TableAccount, read_table

            if found.kind == "parquet" and found.packed:
                source = stack.enter_context(unpacked(source, found.packed, str(path)))
            if found.kind == "ipfix":
                from crossgate.formats.readers.ipfix import file_messages

                yield from self._messages(
                    told,
                    lambda account: file_messages(source, found.packed, str(path), account),
                )
                return
            told.table = TableAccount()
            if found.kind == "log":
                from crossgate.formats.readers.logs import LogLines, log_batches
                from crossgate.formats.readers.tables import read_batches

                lines = LogLines(self.pattern, self.now, self.zone)
                rows = log_batches(source, found.packed, lines, self.columns, str(path))
                for seen in read_batches(rows, self.columns, self.now, told.table, str(path)):
                    yield seen, True
                return
            for seen in read_table(source, found, self.columns, self.now, told.table, str(path)):
                yield seen, True


def hellos_of(told: Iterable[FileRead]) -> Counter[ServerChoice]:
    """Return what servers chose, from several captures together."""
    return sum((each.capture.hellos for each in told if each.capture is not None), Counter())


def size(paths: list[Path]) -> int:
    """Return how many octets some files have together, 0 where that is unknown."""
    try:
        return sum(each.stat().st_size for each in paths if each != STANDARD_INPUT)
    except OSError:
        return 0
