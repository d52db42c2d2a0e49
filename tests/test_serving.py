"""The server as a process of its own: what it takes, whom it lets read, and that nothing is lost when it is killed."""

from __future__ import annotations

import json
import os
import threading
import time
from collections.abc import Iterator
from pathlib import Path
from urllib.parse import urlencode

import pytest

for _library in ("sqlalchemy", "numpy", "scipy", "cryptography", "starlette", "uvicorn", "psycopg"):
    pytest.importorskip(_library)

import browser
import serving_crowd as crowd
from conftest import Yendo
from delivery_office import package_of
from serving_crowd import ServerProcess
from test_fleet_postgres import server as server

from yendo.fleet import machine_reports
from yendo.fleet.deliveries import Deliveries, moment
from yendo.fleet.store import Inventory

PASSWORD = "six gulls on a mooring"


@pytest.fixture
def deliveries(tmp_path: Path) -> Deliveries:
    found = Deliveries(Inventory(tmp_path / "fleet.db"))
    crowd.known(found, 60)
    return found


@pytest.fixture
def serving(deliveries: Deliveries, tmp_path: Path) -> Iterator[ServerProcess]:
    (tmp_path / "delivery" / "content" / "ab").mkdir(parents=True)
    (tmp_path / "delivery" / "content" / "ab" / "abc").write_bytes(b"0123456789")
    (tmp_path / "delivery" / "index.txt").write_bytes(b"an index")
    found = ServerProcess(str(tmp_path / "fleet.db"), "--folder", str(tmp_path / "delivery"))
    yield found
    found.kill()


def test_what_is_taken(deliveries: Deliveries, serving: ServerProcess, tmp_path: Path) -> None:
    number = crowd.begun(deliveries, package_of(tmp_path / "p"), 60)
    good = crowd.report(3, number)
    assert serving.ask("POST", "/reports", good).body == b"new\n"
    assert serving.ask("POST", "/reports", good).body == b"known\n", "replayed: it counts once"
    forged = machine_reports.sealed(machine_reports.read(crowd.report(4, number)).report, crowd.key_of(5))
    assert serving.ask("POST", "/reports", forged).status == 403
    assert serving.ask("POST", "/reports", crowd.report(99, number)).status == 403, "nobody knows it"
    changed = good.replace(b'"code":0', b'"code":1')
    assert serving.ask("POST", "/reports", changed).status == 403
    for body in (b"", b"{}\n" + b"0" * 64, b"x" * (2 << 20), good.replace(b"pier", b"pi\\u0000er"), b"\xff" * 300):
        assert serving.ask("POST", "/reports", body).status == 400
    # another computer's first report does not take a name over
    joined = machine_reports.read(crowd.report(3, 0, sort="joined", key="f" * 64)).report
    assert serving.ask("POST", "/reports", machine_reports.sealed(joined, "f" * 64)).status == 403
    assert [one.state for one in deliveries.places(number)].count("done") == 1
    # the rule stops by itself once too many have failed
    for one in range(10, 40):
        assert serving.ask("POST", "/reports", crowd.report(one, number, code=23)).status == 200
    until = time.monotonic() + 20
    while deliveries.one(number).state == "open" and time.monotonic() < until:
        time.sleep(0.2)
    assert deliveries.one(number).state == "stopped" and deliveries.decisions(number)[-1].who == "the rule"
    assert serving.ask("GET", "/index.txt").body == b"an index"
    assert serving.ask("GET", "/content/ab/abc", Range="bytes=4-").body == b"456789"
    for path in ("/content/../fleet.db", "/content/..%2f..%2ffleet.db", "/fleet.db"):
        assert serving.ask("GET", path).status == 404
    if os.name == "posix":
        assert serving.stop() == 0


def test_who_may_read(deliveries: Deliveries, serving: ServerProcess, tmp_path: Path, yendo: Yendo) -> None:
    number = crowd.begun(deliveries, package_of(tmp_path / "p"), 3)
    odd = "</script><script>alert(1)</script>"
    line = {"v": 1, "time": "", "verb": "install", "step": 1, "event": "step-failed"}
    text = json.dumps({**line, "data": {"number": 1, "error": odd}, "text": odd})
    deliveries.arrive(crowd.report(1, number, code=23, events=text), moment())
    for path in ("/", f"/delivery/{number}", "/computer/pier-00001"):
        assert serving.ask("GET", path).status == 303
    line = ("fleet", "serve", "--admit", "ada", "--inventory", tmp_path / "fleet.db")
    yendo(*line, environment={"YENDO_PASSWORD": "short"}, expect=2)
    yendo(*line, environment={"YENDO_PASSWORD": PASSWORD})

    def log_on(name: str, password: str) -> tuple[int, str]:
        answer = serving.ask("POST", "/log-on", urlencode({"name": name, "password": password}).encode())
        return answer.status, (answer.getheader("Set-Cookie") or "").partition(";")[0]

    assert log_on("ada", "wrong")[0] == log_on("eve", "")[0] == log_on("", "")[0] == 403
    status, cookie = log_on("ada", PASSWORD)
    assert status == 303 and cookie
    listed = serving.ask("GET", "/", Cookie=cookie)
    assert listed.status == 200 and b"tide 1.0" in listed.body
    page = serving.ask("GET", f"/delivery/{number}", Cookie=cookie)
    assert page.status == 200 and odd.encode() not in page.body and b"alert(1)" in page.body
    policy = page.getheader("Content-Security-Policy") or ""
    assert "default-src 'none'" in policy and "unsafe" not in policy
    assert json.loads(serving.ask("GET", "/computer/pier-00001", Cookie=cookie).body)[0]["sort"] == "ended"
    assert serving.ask("GET", "/delivery/99", Cookie=cookie).status == 404
    assert serving.ask("GET", "/", Cookie=cookie[:-1]).status == 303
    for _ in range(12):
        log_on("ada", "wrong")
    assert log_on("ada", PASSWORD)[0] == 429, "nobody tries passwords all day"


def test_behind_the_office_s_sign_on(deliveries: Deliveries, tmp_path: Path) -> None:
    for host, status in (("127.0.0.1", 200), ("10.1.2.3", 403)):
        found = ServerProcess(str(tmp_path / "fleet.db"), "--proxy", f"X-Remote-User@{host}")
        try:
            assert found.ask("GET", "/", X_Remote_User="ada").status == status
            assert found.ask("GET", "/").status == 403
        finally:
            found.kill()


@pytest.mark.skipif(os.name != "posix", reason="a PostgreSQL of its own is made on Linux")
def test_killed_while_a_crowd_reports(server: str, tmp_path: Path) -> None:
    """Two processes on one database; one is killed, and started again. None lost, none doubled, both say the same."""
    deliveries = Deliveries(Inventory(server))
    crowd.known(deliveries, 300)
    number = crowd.begun(deliveries, package_of(tmp_path / "p"), 300)
    serving = [ServerProcess(server, "--proxy", "X-Remote-User@127.0.0.1") for _ in range(2)]
    try:
        left = threading.Thread(
            target=crowd.leave, args=([one.port for one in serving], [crowd.report(one, number) for one in range(300)])
        )
        left.start()
        time.sleep(0.4)
        serving[0].kill()
        serving[0].start()
        left.join()
        assert [one.state for one in deliveries.places(number)] == ["done"] * 300
        assert len(deliveries.store.outcomes()) == 300
        told = [json.loads(one.ask("GET", "/computer/pier-00007", X_Remote_User="a").body) for one in serving]
        assert told[0] == told[1] and len(told[0]) == 1
    finally:
        for one in serving:
            one.kill()


def test_the_page_by_keyboard(deliveries: Deliveries, tmp_path: Path, yendo: Yendo) -> None:
    """In a real browser: the list is reached, moved in, searched and sorted without a mouse."""
    number = crowd.begun(deliveries, package_of(tmp_path / "p"), 3000)
    deliveries.arrive(crowd.report(7, number), moment())
    deliveries.arrive(crowd.report(8, number, code=23), moment())
    yendo(
        "fleet", "status", number, "--page", tmp_path / "page.html", "--inventory", tmp_path / "fleet.db", expect=None
    )
    with browser.browser() as page:
        assert page.go((tmp_path / "page.html").as_uri()) < 30
        rows = "document.querySelectorAll('.row').length"
        assert 10 < page.ask(rows) < 60, "only what is in sight is in the page"
        page.press("Tab")
        assert page.ask("document.activeElement.id") == "find"
        page.press("Tab")
        assert page.ask("document.activeElement.id") == "list"
        page.press("End")
        assert "pier-02999" in page.ask("document.querySelector('.row.here').textContent")
        page.press("Home", "ArrowDown", "PageDown")
        assert page.ask("Number(document.querySelector('.row.here').getAttribute('aria-rowindex'))") > 10
        page.ask("document.getElementById('find').focus()")
        page.type("failed")
        page.ask("new Promise(done => setTimeout(done, 300))")
        assert "1 of 3,000" in page.ask("document.getElementById('count').textContent")
        assert "pier-00008" in page.ask("document.querySelector('.row').textContent")
        assert page.ask("document.documentElement.scrollWidth <= innerWidth")
        page.picture(tmp_path / "page.png")
