"""A real browser, spoken to over a pipe (the DevTools protocol)."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from conftest import missing


class BrowserPage:
    """One page. Times in seconds."""

    def __init__(self, write: int, read: int) -> None:
        self.out, self.into = os.fdopen(write, "wb", 0), os.fdopen(read, "rb", 0)
        self.number, self.held = 0, b""
        self.session = ""
        target = self.call("Target.createTarget", url="about:blank")["targetId"]
        self.session = self.call("Target.attachToTarget", targetId=target, flatten=True)["sessionId"]

    def call(self, method: str, **given: Any) -> Any:
        self.number += 1
        message = {"id": self.number, "method": method, "params": given}
        if self.session:
            message["sessionId"] = self.session
        self.out.write(json.dumps(message).encode() + b"\0")
        while True:
            while b"\0" not in self.held:
                self.held += self.into.read(1 << 20)
            raw, _, self.held = self.held.partition(b"\0")
            answer = json.loads(raw)
            if answer.get("id") == self.number:
                assert "error" not in answer, answer
                return answer["result"]

    def ask(self, expression: str) -> Any:
        found = self.call("Runtime.evaluate", expression=expression, returnByValue=True, awaitPromise=True)
        assert "exceptionDetails" not in found, found
        return found["result"].get("value")

    def go(self, url: str) -> float:
        """Opens an address; how long until its script has said that it is ready."""
        begun = time.perf_counter()
        self.call("Page.navigate", url=url)
        while self.ask("document.documentElement && document.documentElement.dataset.ready") != "yes":
            assert time.perf_counter() < begun + 60
            time.sleep(0.01)
        self.ask("new Promise(done => requestAnimationFrame(() => requestAnimationFrame(done)))")
        return time.perf_counter() - begun

    def press(self, *keys: str) -> None:
        """Keys by their names; a text is typed letter by letter."""
        for key in keys:
            code = {"Tab": 9, "End": 35, "Home": 36, "ArrowDown": 40, "ArrowUp": 38, "PageDown": 34, "Enter": 13}.get(
                key, 0
            )
            for kind in ("rawKeyDown", "keyUp"):
                self.call("Input.dispatchKeyEvent", type=kind, key=key, code=key, windowsVirtualKeyCode=code)

    def type(self, text: str) -> None:
        self.call("Input.insertText", text=text)

    def picture(self, path: Path) -> None:
        import base64

        path.write_bytes(base64.b64decode(self.call("Page.captureScreenshot", format="png")["data"]))


@contextmanager
def browser() -> Iterator[BrowserPage]:
    """A browser with a window of 1280 by 800."""
    found = shutil.which("chromium")
    if not found:
        missing("chromium", "apt-get install chromium, to see the page in a real browser")
        raise AssertionError
    home = Path(tempfile.mkdtemp(prefix="yendo-browser-"))
    (theirs, ours), (our_end, their_end) = os.pipe(), os.pipe()
    # the program reads from 3 and writes to 4
    line = f"exec {found} --headless=new --no-sandbox --disable-gpu --remote-debugging-pipe --window-size=1280,887"
    line += f" --user-data-dir={home} --no-first-run 3<&{theirs} 4>&{their_end}"
    running = subprocess.Popen(["bash", "-c", line], pass_fds=(theirs, their_end), stderr=subprocess.DEVNULL)
    os.close(theirs)
    os.close(their_end)
    try:
        page = BrowserPage(ours, our_end)
        page.call("Emulation.setDeviceMetricsOverride", width=1280, height=800, deviceScaleFactor=1, mobile=False)
        yield page
    finally:
        running.kill()
        running.wait()
        shutil.rmtree(home, ignore_errors=True)
