"""Tables of flows: the same records in every format, columns by their names, and what is wrong told
with its row.
"""

from __future__ import annotations

import gzip
import json
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest
from pyarrow import parquet

from crossgate.core.model.address import Family, parse_address
from crossgate.core.model.errors import PlanError
from crossgate.core.model.packet import Packet
from crossgate.core.traffic.seen import Seen
from crossgate.formats.readers.names import TrafficColumn, told_columns
from crossgate.formats.readers.traffic import Traffic

NOW = 1_700_000_000_000_000
ROWS: list[dict[str, Any]] = [
    {
        "sourceIPv4Address": "10.0.0.1",
        "destinationIPv4Address": "10.0.0.2",
        "protocolIdentifier": 6,
        "sourceTransportPort": 50_000,
        "destinationTransportPort": 443,
        "tcpControlBits": 27,
        "packetDeltaCount": 9,
        "octetDeltaCount": 900,
        "flowStartMilliseconds": 1_700_000_000_123,
    },
    {
        "sourceIPv4Address": "10.0.0.3",
        "destinationIPv4Address": "10.0.0.2",
        "protocolIdentifier": 1,
        "sourceTransportPort": 0,
        "destinationTransportPort": 2048,
        "tcpControlBits": 0,
        "packetDeltaCount": 1,
        "octetDeltaCount": 84,
        "flowStartMilliseconds": 1_700_000_000_200,
    },
]


def read(path: Path, *columns: str) -> tuple[list[Seen], Traffic]:
    traffic = Traffic([path], told_columns(columns), NOW)
    return [seen for batch, _ in traffic.batches() for seen in batch.values()], traffic


def csv_text(rows: list[dict[str, Any]], delimiter: str = ",") -> str:
    return "\n".join(
        [delimiter.join(rows[0]), *(delimiter.join(map(str, row.values())) for row in rows), ""]
    )


def packets(several: list[Seen]) -> list[Packet]:
    return [seen.packets.packet(row) for seen in several for row in range(len(seen))]


def value(text: str) -> int:
    return parse_address(text).value


@pytest.mark.parametrize(
    "kind", ["csv", "semicolons", "json", "parquet", "csv.gz", "json.zst", "parquet.gz"]
)
def test_every_format_gives_the_same_records(tmp_path: Path, kind: str) -> None:
    path = tmp_path / f"flows.{kind}"
    text = (
        csv_text(ROWS, ";" if kind == "semicolons" else ",")
        if kind[:4] in ("csv", "csv.", "semi")
        else "".join(json.dumps(row) + "\n" for row in ROWS)
    )
    plain = text.encode()
    if kind.startswith("parquet"):
        parquet.write_table(pa.Table.from_pylist(ROWS), str(tmp_path / "plain"))
        plain = (tmp_path / "plain").read_bytes()
    if kind.endswith("zst"):
        with pa.CompressedOutputStream(str(path), "zstd") as stream:
            stream.write(plain)
    else:
        path.write_bytes(gzip.compress(plain) if kind.endswith("gz") else plain)
    found, traffic = read(path)
    assert packets(found) == [
        Packet(Family.IPV4, value("10.0.0.1"), value("10.0.0.2"), 6, 50_000, 443, flags=27),
        Packet(Family.IPV4, value("10.0.0.3"), value("10.0.0.2"), 1, icmp_type=8, icmp_code=0),
    ]
    (seen,) = found
    assert (seen.counts.tolist(), seen.octets.tolist()) == ([[9, 1], [0, 0]], [[900, 84], [0, 0]])
    assert seen.first.tolist() == [1_700_000_000_123_000, 1_700_000_000_200_000]
    assert traffic.rows == 2
    assert traffic.told[0].table is not None
    assert traffic.told[0].table.icmp_in_port == 1


def test_both_ways_in_one_record(tmp_path: Path) -> None:
    path = tmp_path / "flows.csv"
    path.write_text(
        csv_text(
            [
                ROWS[0]
                | {
                    "reversePacketDeltaCount": 4,
                    "reverseOctetDeltaCount": 400,
                    "reverseTcpControlBits": 18,
                }
            ]
        )
    )
    (seen,), _ = read(path)
    assert (seen.counts.tolist(), seen.octets.tolist(), seen.flags.tolist()) == (
        [[9], [4]],
        [[900], [400]],
        [[27], [18]],
    )


def test_short_names_words_and_columns_that_are_told(tmp_path: Path) -> None:
    path = tmp_path / "flows.csv"
    path.write_text(
        "client_ip,Dst_IP,proto,sport,dport,tcp_flags,pkts,start,icmpTypeCodeIPv6\n"
        "2001:db8::1,2001:db8::2,TCP,50000,80,.AP.S.,3,2026-11-25T08:00:00Z,\n"
        "2001:db8::1,2001:db8::2,58,0,0,0x12,3,2026-11-25 09:00:00,32768\n"
    )
    (seen,), _ = read(path, "source=client_ip")
    ends = value("2001:db8::1"), value("2001:db8::2")
    assert packets([seen]) == [
        Packet(Family.IPV6, *ends, 6, 50_000, 80, flags=26),
        Packet(Family.IPV6, *ends, 58, icmp_type=128, icmp_code=0),
    ]
    assert (seen.first[1] - seen.first[0]) == 3_600 * 1_000_000
    assert seen.flags[0].tolist() == [26, 0]


@pytest.mark.parametrize(
    ("name", "cells", "said"),
    [
        ("action", ["Permitted", " allow ", "accept", "PASS"], [1, 1, 1, 1]),
        ("action", ["deny", "Dropped", "REJECT", "block", ""], [2, 2, 2, 2, 0]),
        ("forwardingStatus", [0, 63, 64, 127, 128, 191, 192, 255], [0, 0, 1, 1, 2, 2, 1, 1]),
        ("firewallEvent", [0, 1, 2, 3, 4, 5], [0, 1, 1, 2, 0, 1]),
    ],
)
@pytest.mark.parametrize("kind", ["csv", "parquet"])
def test_what_a_device_decided(
    tmp_path: Path, kind: str, name: str, cells: list[Any], said: list[int]
) -> None:
    rows = [ROWS[0] | {name: cell} for cell in cells]
    path = tmp_path / f"log.{kind}"
    if kind == "csv":
        path.write_text(csv_text(rows))
    else:
        parquet.write_table(pa.Table.from_pylist(rows), str(path))
    batches = list(Traffic([path], {TrafficColumn.VERDICT: name}, NOW).batches())
    assert [bits for batch, _ in batches for seen in batch.values() for bits in seen.said] == said


@pytest.mark.parametrize(
    ("name", "cell"),
    [("action", "maybe"), ("action", 64), ("forwardingStatus", 256), ("firewallEvent", 6)],
)
def test_what_says_nothing_of_a_verdict_is_told(tmp_path: Path, name: str, cell: object) -> None:
    path = tmp_path / "log.csv"
    path.write_text(csv_text([ROWS[0] | {name: cell}]))
    with pytest.raises(PlanError, match=f"row 1 of column {name}: '{cell}' is no verdict; one is"):
        list(Traffic([path], {TrafficColumn.VERDICT: name}, NOW).batches())


@pytest.mark.parametrize(
    ("name", "number", "microseconds"),
    [
        ("flowStartSeconds", 1_700_000_000, 1_700_000_000_000_000),
        ("flowStartMicroseconds", 1_700_000_000_000_001, 1_700_000_000_000_001),
        ("flowStartNanoseconds", 1_700_000_000_000_001_000, 1_700_000_000_000_001),
        ("time", 1_700_000_000, 1_700_000_000_000_000),
        ("time", 1_700_000_000.5, 1_700_000_000_500_000),
        ("time", 1_700_000_000_000, 1_700_000_000_000_000),
    ],
)
def test_times_in_every_unit(tmp_path: Path, name: str, number: float, microseconds: int) -> None:
    row = {key: each for key, each in ROWS[0].items() if key != "flowStartMilliseconds"} | {
        name: number
    }
    csv = tmp_path / "flows.csv"
    csv.write_text(csv_text([row]))
    parquet.write_table(pa.Table.from_pylist([row]), str(tmp_path / "flows.parquet"))
    for path in (csv, tmp_path / "flows.parquet"):
        (seen,), _ = read(path)
        assert seen.first.tolist() == [microseconds], path


def test_addresses_as_numbers_and_octets(tmp_path: Path) -> None:
    row = ROWS[0] | {
        "sourceIPv4Address": value("10.0.0.1"),
        "destinationIPv4Address": bytes([10, 0, 0, 2]),
    }
    parquet.write_table(pa.Table.from_pylist([row]), str(tmp_path / "flows.parquet"))
    found, _ = read(tmp_path / "flows.parquet")
    assert packets(found)[0][1:3] == (value("10.0.0.1"), value("10.0.0.2"))


def test_without_times_it_is_now_and_records_without_an_address_are_left_out(
    tmp_path: Path,
) -> None:
    path = tmp_path / "flows.csv"
    path.write_text(
        "src,dst,proto,sport,dport\n10.0.0.1,10.0.0.2,17,50000,53\n,10.0.0.2,17,50000,53\n"
    )
    (seen,), traffic = read(path)
    assert seen.first.tolist() == [NOW]
    told = traffic.told[0].table
    assert told is not None
    assert (told.timeless, told.empty, told.rows) == (True, 1, 2)


@pytest.mark.parametrize(
    ("change", "problem"),
    [
        (
            {"destinationTransportPort": "many"},
            r"row 2 of column destinationTransportPort: 'many' is no number from 0 to 65,535",
        ),
        (
            {"destinationTransportPort": 70_000},
            r"row 2 of column destinationTransportPort: '70000' is no number from 0 to 65,535",
        ),
        (
            {"sourceIPv4Address": "2001:db8::1"},
            r"row 2 of column sourceIPv4Address: 2001:db8::1 is an IPv6 address",
        ),
        (
            {"sourceIPv4Address": "10.0.0.300"},
            r"row 2 of column sourceIPv4Address: '10.0.0.300' is no address",
        ),
        (
            {"protocolIdentifier": "quic"},
            r"row 2 of column protocolIdentifier: 'quic' is no number from 0 to 255",
        ),
        (
            {"tcpControlBits": "XYZ"},
            r"row 2 of column tcpControlBits: 'XYZ' is neither a number nor letters",
        ),
        (
            {"flowStartMilliseconds": 10**17},
            r"row 2 of column flowStartMilliseconds: 100000000000000000 is no time after 1970",
        ),
        (
            {"flowStartMilliseconds": "17_000"},
            r"row 2 of column flowStartMilliseconds: .17_000. is no time",
        ),
        (
            {"flowStartMilliseconds": -5},
            r"row 2 of column flowStartMilliseconds: -5 is no time after 1970",
        ),
        (
            {"flowStartMilliseconds": "yesterday"},
            r"row 2 of column flowStartMilliseconds: 'yesterday' is no time",
        ),
    ],
)
def test_what_is_wrong_is_told_with_its_row(
    tmp_path: Path, change: dict[str, Any], problem: str
) -> None:
    path = tmp_path / "flows.csv"
    path.write_text(csv_text([ROWS[0], ROWS[0] | change]))
    with pytest.raises(PlanError, match=problem):
        read(path)


def test_columns_that_are_missing_or_named_wrongly_are_told_with_those_there(
    tmp_path: Path,
) -> None:
    path = tmp_path / "flows.csv"
    path.write_text("src,dst,proto,sport\n10.0.0.1,10.0.0.2,17,50000\n")
    with pytest.raises(
        PlanError,
        match=(
            r"no column for the destination port, as destinationTransportPort; it has src, dst, "
            r"proto, sport"
        ),
    ):
        read(path)
    with pytest.raises(PlanError, match=r"has no column sprot; there is sport"):
        read(path, "source-port=sprot")
    with pytest.raises(PlanError, match=r"--column source: write WHAT=NAME"):
        told_columns(["source"])
    path.write_text("src,dst,proto,sport,dport,sport\n10.0.0.1,10.0.0.2,17,50000,53,9\n")
    with pytest.raises(PlanError, match="has the column sport twice"):
        read(path)
    path.write_text("src,dst,proto,sport,dport\n10.0.0.1,2001:db8::2,17,50000,53\n")
    with pytest.raises(PlanError, match="of one address family and its destination of another"):
        read(path)


def test_tables_without_rows_and_broken_ones(tmp_path: Path) -> None:
    path = tmp_path / "flows"
    path.write_text("src,dst,proto,sport,dport\n")
    assert read(path)[0] == []
    path.write_text('{"src": "10.0.0.1"\n')
    with pytest.raises(PlanError, match="not JSON lines of one shape"):
        read(path)
    path.write_bytes(b"PAR1 and no more")
    with pytest.raises(PlanError, match="cannot be read as Parquet"):
        read(path)
    path.write_text("src,dst\n1,2,3\n")
    with pytest.raises(PlanError, match="cannot be read as CSV"):
        read(path)


FLOW = '{"src": "10.0.0.1", "dst": "10.0.0.2", "proto": 6, "sport": 1, "dport": 2%s}\n'


@pytest.mark.parametrize(
    ("lines", "problem"),
    [
        (FLOW % (', "x": ' + "[" * 100_000), "nested deeper than 200 levels"),
        (
            FLOW % (', "x": ' + '{"a":' * 100_000 + "1" + "}" * 100_000),
            "nested deeper than 200 levels",
        ),
        (FLOW % (', "x": ' + "[" * 201 + "]" * 201) + "[\n" * 9, "nested deeper than 200 levels"),
        (
            "".join(FLOW % f', "k{number}": 1' for number in range(100_000)),
            "columns; a table of up to 1,000 is read",
        ),
        (
            "".join(FLOW % f', "k{number}" : 1' for number in range(5_000)),
            "columns; a table of up to 1,000 is read",
        ),
        (
            "".join(FLOW % f', "k{number}\\"b": 1' for number in range(5_000)),
            "columns; a table of up to 1,000 is read",
        ),
        (FLOW % (', "x": "' + "a" * (25 << 20) + '"'), "a line of more than 16 MB"),
        (FLOW % ', "bytes": 99999999999999999999999999999', "bytes"),
        (FLOW % f', "bytes": {"9" * 5_000}', "bytes"),
    ],
)
def test_lines_that_no_table_has_are_told_before_they_do_harm(
    tmp_path: Path, lines: str, problem: str
) -> None:
    path = tmp_path / "flows.json"
    path.write_text(lines)
    with pytest.raises(PlanError, match=problem):
        read(path)


def test_brackets_in_texts_are_no_depth(tmp_path: Path) -> None:
    path = tmp_path / "flows.json"
    path.write_text(FLOW % (', "note": "' + "[{" * 500 + '"'))
    assert len(read(path)[0]) == 1


def test_a_table_has_no_thousands_of_columns(tmp_path: Path) -> None:
    path = tmp_path / "flows.csv"
    path.write_text(
        ",".join(["src", "dst", "proto", *(f"c{number}" for number in range(998))]) + "\n"
    )
    with pytest.raises(PlanError, match="has 1,001 columns; a table of up to 1,000 is read"):
        read(path)
    table = pa.table({f"c{number}": [1] for number in range(1_001)})
    parquet.write_table(table, str(tmp_path / "flows.parquet"))
    with pytest.raises(PlanError, match="has 1,001 columns"):
        read(tmp_path / "flows.parquet")


@pytest.mark.parametrize("name", ["packetDeltaCount", "octetDeltaCount"])
def test_counts_never_run_over(tmp_path: Path, name: str) -> None:
    path = tmp_path / "flows.csv"
    path.write_text(csv_text([ROWS[0] | {name: 1 << 62}] * 3))
    with pytest.raises(
        PlanError,
        match=r"packets and bytes come to more than 72,057,594,037,927,936, which cannot be",
    ):
        read(path)
    path.write_text(csv_text([ROWS[0] | {name: 9_007_199_254_740_993}] * 3))
    (seen,) = read(path)[0]
    assert (
        int((seen.counts if name.startswith("p") else seen.octets).sum())
        == 3 * 9_007_199_254_740_993
    )


@pytest.mark.parametrize(
    "values",
    [
        pa.array([[1]]),
        pa.array([{"a": 1}]),
        pa.array([True]),
        pa.array([1], pa.time64("us")),
        pa.array([1], pa.duration("s")),
        pa.array([1], pa.date32()),
        pa.array([[("a", 1)]], pa.map_(pa.string(), pa.int64())),
    ],
)
@pytest.mark.parametrize("name", ["src", "proto", "sport", "flags", "bytes", "time"])
def test_values_of_a_kind_that_no_column_has_are_told(
    tmp_path: Path, name: str, values: Any
) -> None:
    table = pa.table(
        {"src": ["10.0.0.1"], "dst": ["10.0.0.2"], "proto": [6], "sport": [1], "dport": [2]}
        | {name: values}
    )
    parquet.write_table(table, str(tmp_path / "flows.parquet"))
    with pytest.raises(
        PlanError, match=f"flows.parquet row 1 of column {name}: its values are of the kind"
    ):
        read(tmp_path / "flows.parquet")
