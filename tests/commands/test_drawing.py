"""`crossgate draw`, `trace --draw`, `compare --draw` and `report`: files that are what their ending
says, with all that belongs in them.
"""

from __future__ import annotations

import re
import xml.etree.ElementTree as ElementTree
from itertools import pairwise
from pathlib import Path

import pytest

from crossgate.core.conversation.verdict import Verdict
from crossgate.report.pages import grid_part
from tests.conftest import Run

SVG = "{http://www.w3.org/2000/svg}"


def named(path: Path) -> set[str]:
    """Return the names of the parts of a picture."""
    return {each.get("id", "") for each in ElementTree.parse(path).iter()}


def texts(path: Path) -> set[str]:
    return {"".join(each.itertext()).strip() for each in ElementTree.parse(path).iter(f"{SVG}text")}


def test_the_network_has_every_gate_and_name(run: Run, demo: Path) -> None:
    done = run("draw", "network")
    assert (done.returncode, done.stdout) == (0, "network.svg\n")
    names = named(demo / "network.svg")
    assert {
        "gate-110-inbound-on-breakwater.sea",
        "gate-duty-only-inbound-on-lighthouse-itself",
        "gate-kiosk-port-inbound-on-jetty.3",
        "gate-guest-fence-outbound-on-subnet-guests",
        "bar-spine",
        "device-pier",
        "title",
    } <= names
    assert {
        "Ternhaven ferry terminal",
        "lighthouse",
        "kiosk-fence6",
        "manifest 10.64.20.10 2001:db8:64:14::10",
        "2001:db8:64:8::/64",
        "2001:db8:64:8::1",
    } <= {re.sub(r"\s+", " ", each) for each in texts(demo / "network.svg")}
    before = (demo / "network.svg").read_bytes()
    run("draw", "network")
    assert (demo / "network.svg").read_bytes() == before  # the same plan is the same picture


def test_a_traced_path_ends_at_the_gate_that_stopped_it(run: Run, demo: Path) -> None:
    run("draw", "network", "--path", "duty", "camera-3", "tcp/rtsp")
    names = named(demo / "network.svg")
    assert {"leg-1", "leg-2"} <= names
    assert "leg-3" not in names
    assert (
        "2  SYN+ACK from camera-3 to duty is stopped by berth-3-in otherwise, inbound on pier.b3"
        in texts(demo / "network.svg")
    )


@pytest.mark.parametrize(
    ("words", "begin"),
    [
        (("draw", "network", "--dark", "--size", "1280x800", "--out", "x.png"), b"\x89PNG"),
        (("draw", "network", "--list", "110", "--out", "x.pdf"), b"%PDF"),
        (("draw", "network", "--device", "pier", "--out", "x.svg"), b"<?xml"),
        (("draw", "grid", "booking", "--at", "mon 12:00", "--out", "x.png"), b"\x89PNG"),
        (("draw", "grid", "--from", "tickets", "--to", "harbour", "--out", "x.svg"), b"<?xml"),
        (("draw", "grid", "--against", "proposal/ternhaven.gate", "--out", "x.svg"), b"<?xml"),
        (("draw", "week", "--at", "mon 23:00", "--out", "x.svg"), b"<?xml"),
        (("draw", "list", "12", "--out", "x.svg"), b"<?xml"),
        (("trace", "kiosk-1", "crane-2", "ping", "--draw", "x.svg"), b"<?xml"),
        (("compare", "proposal/ternhaven.gate", "--draw", "x.svg"), b"<?xml"),
    ],
)
def test_each_picture_is_a_file_of_its_kind(
    run: Run, demo: Path, words: tuple[str, ...], begin: bytes
) -> None:
    done = run("--plan", "ternhaven.gate", *words)
    assert done.returncode in (0, 1), done.stderr
    (path,) = demo.glob("x.*")
    assert path.read_bytes().startswith(begin)


def test_a_size_is_kept(run: Run, demo: Path) -> None:
    run("draw", "network", "--size", "640x400", "--out", "x.png")
    data = (demo / "x.png").read_bytes()
    width, height = int.from_bytes(data[16:20]), int.from_bytes(data[20:24])
    assert (width, height) == (640, 400)


def test_a_list_shows_what_each_line_takes_and_what_nothing_reaches(
    run: Run, tmp_path: Path
) -> None:
    (tmp_path / "p.gate").write_text(
        "list a extended ipv4\n    10 permit ip 10.0.0.0/8 to any\n    20 deny tcp 10.1.0.0/16 to "
        "any\n    30 permit ip 0.0.0.0/1 to any\n    40 off permit ip any to any\n"
    )
    assert run("draw", "list", "a").returncode == 0
    assert {"hollow-20", "hollow-40", "bar-10", "bar-30", "bar-otherwise"} <= named(
        tmp_path / "list-a.svg"
    )
    told = texts(tmp_path / "list-a.svg")
    assert {
        "all of it",
        "nothing reaches it",
        "is off",
        "99% of it; lines above take the rest",
        "what no line takes",
    } <= told


def test_the_week_shows_when_windows_are_open_and_what_is_in_force(run: Run, demo: Path) -> None:
    run("draw", "week", "night", "--at", "mon 23:00")
    assert {"open-night-mon", "open-night-sun"} <= named(demo / "week.svg")
    assert {"night", "12 30  permit duty during night", "now"} <= {
        each.replace("\xa0", " ") for each in texts(demo / "week.svg")
    }


def test_dates_far_off_are_told_with_their_years(run: Run, demo: Path) -> None:
    run("draw", "week", "dry-dock", "--at", "2026-11-30 12:00")
    told = {each.replace("\xa0", " ") for each in texts(demo / "week.svg")}
    assert "Nov 2026" in told
    assert "Dec 2037" not in told  # it would stand in what is told beside it
    run("draw", "week", "dry-dock", "--at", "2037-11-30 12:00")
    assert "01 Dec" in {each.replace("\xa0", " ") for each in texts(demo / "week.svg")}


def test_the_tally_is_drawn_once_there_is_one(run: Run, demo: Path) -> None:
    assert "no line of ternhaven.gate has decided yet" in run("draw", "tally").stderr
    run("verify", "--tally")
    assert run("draw", "tally").returncode == 0
    assert "bar-kiosk-fence-10" in named(demo / "tally.svg")


@pytest.mark.parametrize(
    ("words", "problem"),
    [
        (("draw", "network", "--out", "x.gif"), "name a file that ends in .svg, .png or .pdf"),
        (("draw", "network", "--out", "ternhaven.gate"), "name a file that ends in"),
        (("draw", "network", "--out", "missing/x.svg"), "missing/x.svg cannot be written"),
        (("draw", "network", "--size", "big"), "--size big: write width and height in pixels"),
        (("draw", "network", "--device", "moon"), "no device moon"),
        (("draw", "network", "--list", "moon"), "no list moon"),
        (("draw", "network", "--path", "kiosk-1", "moon", "ping"), "moon"),
        (("draw", "grid", "teleport"), "teleport"),
        (("draw", "week", "noon"), "no window noon"),
        (("draw", "week", "ssh", "duty", "crane-1"), "crossgate draw week duty crane-1 ssh"),
        (("draw", "week", "duty", "to", "crane-1"), "is drawn for one service"),
        (
            ("compare", "proposal/ternhaven.gate", "--list", "110", "--draw", "x.svg"),
            "--draw is about the network",
        ),
    ],
)
def test_what_cannot_be_drawn_is_told(
    run: Run, demo: Path, words: tuple[str, ...], problem: str
) -> None:
    refused = run(*words)
    assert refused.returncode == 2, refused.stdout
    assert problem in refused.stderr
    assert not [*demo.glob("x.*")]


def test_no_display_is_needed_and_nobody_else_loads_matplotlib(launch: Run, demo: Path) -> None:
    code = (
        "import sys; sys.argv = ['crossgate', 'verify', 'ternhaven.gate']\nfrom "
        "crossgate.__main__ import main\ntry: main()\nfinally: print('matplotlib' in "
        "sys.modules)"
    )
    import subprocess

    done = subprocess.run(
        [sys_executable(), "-c", code], cwd=demo, capture_output=True, text=True, check=False
    )
    assert done.stdout.splitlines()[-1] == "False"
    assert launch("draw", "network", env={"PATH": "/usr/bin", "HOME": str(demo)}).returncode == 0


def sys_executable() -> str:
    import sys

    return sys.executable


# ---- The report


def test_the_report_has_everything_and_asks_for_nothing(run: Run, demo: Path) -> None:
    done = run("report", "--at", "2026-12-01 12:00")
    assert done.stdout == "report.html: 28 of 28 expectations hold, 4 warnings, 1 note\n"
    page = (demo / "report.html").read_text()
    for part in (
        "Findings",
        "Network",
        "Lists",
        "Expectations",
        "Who reaches whom",
        "Windows",
        "How it was made",
    ):
        assert f">{part}</h2>" in page
    assert re.search(r"(src|href)=\"(?!#)", page) is None
    assert "url(http" not in page
    assert 'aria-label="list 110, IPv4, inbound on breakwater.sea: 5 entries"' in page
    assert page.count("<h1") == 1
    levels = [int(level) for level in re.findall(r"<h(\d)", page)]
    assert all(after - before <= 1 for before, after in pairwise(levels))
    assert page.count("<table") == page.count("<thead>")
    assert "#1d2733" not in page.split("</style>")[1]  # the pictures' colours are the page's


def test_all_text_of_a_plan_is_escaped(run: Run, tmp_path: Path) -> None:
    evil = "<script>alert(1)</script>"
    (tmp_path / "p.gate").write_text(
        f'title "{evil}"\nsubnet a 10.0.0.0/24\nrouter r\n    interface x 10.0.0.1/24 on a\nhost '
        "h 10.0.0.2 on a\n"
        f'list l extended ipv4\n    note "{evil}"\n    10 permit ip any to any "{evil}"\nplace l '
        f'inbound on r.x\nexpect deny ip h to r "{evil}"\n'
        f'accept too-broad in l "{evil}"\n'
    )
    assert run("report").returncode == 0
    page = (tmp_path / "report.html").read_text()
    assert evil not in page
    assert page.count("<script") == 1
    assert "&lt;script&gt;alert(1)&lt;/script&gt;" in page
    assert "✗ 0 of 1 expectations hold" in page
    assert ">What fails</h2>" in page


def test_the_report_tells_what_changed_since(run: Run, demo: Path) -> None:
    import subprocess

    def git(*words: str) -> None:
        subprocess.run(
            ["git", "-c", "user.name=a", "-c", "user.email=a@example.org", *words],
            cwd=demo,
            check=True,
            capture_output=True,
        )

    git("init", "-q")
    git("add", ".")
    git("commit", "-qm", "first")
    (demo / "ternhaven.gate").write_bytes((demo / "proposal" / "ternhaven.gate").read_bytes())
    assert run("report", "--since", "HEAD").returncode == 0
    page = (demo / "report.html").read_text()
    assert "What changed since HEAD</h2>" in page
    assert "was denied by guest-fence 20" in page


def test_the_report_says_what_it_leaves_out(run: Run, tmp_path: Path) -> None:
    hosts = "".join(f"host h{number} 10.0.0.{number} on a\n" for number in range(10, 51))
    subnets = (
        "subnet a 10.0.0.0/24\nsubnet b 10.0.1.0/24\nrouter r\n    interface a 10.0.0.1/24\n "
        "   interface b 10.0.1.1/24\n"
    )
    claims = "".join(f"expect permit tcp/{port} h10 to h11\n" for port in range(1, 8))
    (tmp_path / "net.gate").write_text(subnets + hosts + claims + "expect permit tcp h10 to h12\n")
    assert run("report").returncode == 0
    page = (tmp_path / "report.html").read_text()
    # All 41 fare alike, so one row is all of them, and it says whose it is.
    assert page.count('<th scope="row" title="h10, h11, h12') == 6
    assert "<strong>h10 +40</strong>: h10, h11, h12" in page
    assert "not shown: tcp/7, ping, for which crossgate grid has more room" in page
    many = "".join(
        f"host m{number} 10.1.{number >> 8}.{number & 255} on c\n" for number in range(2, 303)
    )
    (tmp_path / "net.gate").write_text(
        f"{subnets}subnet c 10.1.0.0/22\n{many}expect permit tcp/1 m2 to m3\n"
    )
    assert run("report").returncode == 0
    assert (
        "301 machines are too many for this page: subnets stand for them"
        in (tmp_path / "report.html").read_text()
    )
    (tmp_path / "net.gate").write_text(
        subnets + "host h10 10.0.0.10 on a\nexpect permit tcp h10 to b\n"
    )
    run("report")
    assert (
        "left out: b (no host is there); tcp (single packets"
        in (tmp_path / "report.html").read_text()
    )
    routers = "".join(
        f"router r{number}\n    interface a 10.0.0.{number}/24\n" for number in range(2, 122)
    )
    (tmp_path / "net.gate").write_text(subnets + routers)
    run("report")
    assert "121 devices are too many to draw here" in (tmp_path / "report.html").read_text()


def test_an_empty_plan_has_a_report_too(run: Run, tmp_path: Path) -> None:
    (tmp_path / "p.gate").write_text('title "nothing yet"\n')
    assert run("report").returncode == 0
    assert "nothing is expected yet, no findings" in (tmp_path / "report.html").read_text()


def test_a_file_is_written_whole_or_stays_as_it_was(
    run: Run, demo: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (demo / "x.svg").write_text("before")
    (demo / "x.svg").chmod(0o640)

    def full(self: Path, data: bytes) -> int:
        with self.open("wb") as file:
            file.write(data[:100])
        raise OSError(28, "No space left on device")

    with monkeypatch.context() as patch:
        patch.setattr(Path, "write_bytes", full)
        refused = run("draw", "network", "--out", "x.svg")
    assert (refused.returncode, (demo / "x.svg").read_text()) == (2, "before")
    assert "x.svg cannot be written: No space left on device" in refused.stderr
    assert [each.name for each in demo.glob(".x.svg*")] == []
    assert run("draw", "network", "--out", "x.svg").returncode == 0
    assert (demo / "x.svg").stat().st_mode & 0o777 == 0o640
    assert run("report", "--out", "/dev/null").returncode == 0


def test_names_stand_as_one_in_the_report_only_where_all_that_they_do_is_alike(
    tmp_path: Path,
) -> None:
    names = [f"n{number}" for number in range(24)]
    odd = {("n3", "n7"): Verdict.DENIED, ("n5", "n6"): Verdict.HALF_OPEN}
    verdicts = {
        (one, other): {"IPv4": odd.get((one, other), Verdict.PERMITTED)}
        for one in names
        for other in names
        if one != other
    }
    part = grid_part("ping", names, verdicts)
    labels = [each.label for each in part.columns]
    assert labels == ["n0 +19", "n3", "n5", "n6", "n7"]
    assert {name for each in part.columns for name in each.names} == set(names)
    cells = {
        (one.label, other.label): cell
        for one, row in part.rows
        for other, cell in zip(part.columns, row, strict=True)
    }
    assert cells["n3", "n7"] == (("-", "IPv4: denied"),)
    assert cells["n0 +19", "n0 +19"] == (("+", "IPv4: permitted"),)
    assert cells["n3", "n3"] == ()


def test_a_grid_of_many_names_is_drawn_with_those_that_fare_alike_as_one(
    run: Run, tmp_path: Path
) -> None:
    hosts = "".join(f"host h{number} 10.0.0.{number} on a\n" for number in range(10, 60))
    (tmp_path / "net.gate").write_text(
        "subnet a 10.0.0.0/24\nsubnet b 10.0.1.0/24\nhost k 10.0.1.5 on b\nrouter r stateful\n"
        "    interface a 10.0.0.1/24 on a\n    interface b 10.0.1.1/24 on b\n"
        "list l extended ipv4\n    deny ip h30 to any\n    otherwise permit\n"
        f"place l inbound on r.a\n{hosts}"
    )
    assert run("draw", "grid", "tcp/80").returncode == 0
    told = texts(tmp_path / "grid.svg")
    assert {"h10 +48", "h30", "k"} <= told
    assert any(each.startswith("h10 +48: h10, h11, h12") for each in told)
    assert "left half IPv4, right half IPv6" not in told


def test_a_size_at_which_nobody_can_read_says_from_which_on_one_can(run: Run, demo: Path) -> None:
    small = run("draw", "network", "--size", "400x300", "--out", "small.png")
    assert small.returncode == 0
    found = re.search(r"they can be read from --size (\d+x\d+) on", small.stderr)
    assert found is not None
    assert "pixels high" in small.stderr
    assert run("draw", "network", "--size", "400x300", "--out", "small.svg").stderr == ""
    enough = run("draw", "network", "--size", found[1], "--out", "enough.png")
    assert (enough.returncode, enough.stderr) == (0, "")
