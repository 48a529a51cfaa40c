"""The pages as a browser and a screen reader have them; only where there is a browser."""

from __future__ import annotations

import functools
import http.server
import importlib.resources
import json
import queue
import shutil
import subprocess
import threading
import time
from pathlib import Path
from typing import Any, ClassVar

import pytest

from conftest import Space

BROWSER = next(filter(None, map(shutil.which, ("chromium", "chromium-browser", "google-chrome"))), None)
_PARTS, _BETWEEN = 30, 0.03  # in which a page is served, and seconds between them
_A_LINE = 0.0005  # by which a page moves where a cell that came in two parts needs one line more
WATCHED = """
let shift = 0, moved = [];
new PerformanceObserver(l => l.getEntries().forEach(e => { shift += e.value;
  moved.push(...e.sources.map(s => s.node && (s.node.outerHTML || s.node.textContent).slice(0, 90))); }))
  .observe({type: "layout-shift", buffered: true});
"""
ASKED = """
setTimeout(() => axe.run().then(r => fetch("/told", {method: "POST", body: JSON.stringify(
  [document.documentElement.scrollWidth - document.documentElement.clientWidth, shift, moved,
  r.violations.map(v => [v.impact, v.id, v.nodes.slice(0, 2).map(n => n.html)])])})), 300);
"""


class Asked(http.server.SimpleHTTPRequestHandler):
    """Serves pages, and takes what a browser tells of them."""

    told: ClassVar[queue.Queue[Any]] = queue.Queue()

    def do_GET(self) -> None:
        """A page in parts, as it comes over a slow line: what comes last may move nothing that is there."""
        path = Path(self.translate_path(self.path))
        if not path.is_file():
            self.send_error(404)
            return
        whole = path.read_bytes()
        self.send_response(200)
        self.send_header("Content-Type", "text/html; charset=utf-8")
        self.end_headers()
        for at in range(0, len(whole), len(whole) // _PARTS + 1):
            self.wfile.write(whole[at : at + len(whole) // _PARTS + 1])
            time.sleep(_BETWEEN)

    def do_POST(self) -> None:
        self.told.put(json.loads(self.rfile.read(int(self.headers["Content-Length"]))))
        self.send_response(204)
        self.end_headers()

    def log_message(self, *_told: object) -> None:
        """Nothing is told."""


def asked(text: str, folder: Path, width: int) -> tuple[int, float, list[str], list[Any]]:
    """By how many pixels a page is too wide, how far it moves while it opens, and what is wrong for who hears it."""
    axe = importlib.resources.files("axe_core_python").joinpath("axe.min.js").read_text(encoding="utf-8")
    first, *last = ("<script>" + each.replace("</script", "<\\/script") + "</script>" for each in (WATCHED, axe, ASKED))
    # what a page's own script moves shows only if it comes after the page was drawn
    text = text.replace("<script>\n(() => {", "<script>\nsetTimeout(() => {").replace("\n})();\n", "\n}, 200);\n")
    text = text.replace("<head>", "<head>" + first, 1).replace("</body>", "".join(last) + "</body>")
    (folder / "page.html").write_text(text)
    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), functools.partial(Asked, directory=str(folder)))
    threading.Thread(target=server.serve_forever, daemon=True).start()
    words = ["--headless", "--no-sandbox", "--disable-gpu", f"--user-data-dir={folder}/profile", "--incognito",
             f"--window-size={width},900", "--remote-debugging-port=0"]  # fmt: skip
    browser = subprocess.Popen(
        [str(BROWSER), *words, f"http://127.0.0.1:{server.server_port}/page.html"], stderr=subprocess.DEVNULL
    )
    try:
        wide, shift, moved, wrong = Asked.told.get(timeout=60)
    finally:
        browser.terminate()
        browser.wait()
        server.shutdown()
        server.server_close()
    return wide, shift, moved, wrong


@pytest.mark.skipif(BROWSER is None, reason="there is no browser")
def test_a_page_that_moves_and_has_no_name_would_be_seen(tmp_path: Path) -> None:
    moving = """<!doctype html><html><head></head><body><div id="x" style="width: 9999px"></div><p style="height: 200px">it moves</p>
        <script>setTimeout(() => { x.style.height = "300px" }, 50)</script></body></html>"""
    wide, shift, _, wrong = asked(moving, tmp_path, 1280)

    assert (wide > 8000, shift > 0.1, "document-title" in str(wrong)) == (True, True, True)


@pytest.mark.skipif(BROWSER is None, reason="there is no browser")
@pytest.mark.parametrize("width", [1280, 500])
def test_pages_hold_within_a_screen_and_are_read_aloud_as_they_should(demo: Space, tmp_path: Path, width: int) -> None:
    folder = demo.root / "reports"
    pages = [
        folder / "index.html",
        *folder.glob("run-2-*.html"),
        *folder.glob("tables/s*.html"),
        folder / "docket/1.html",
    ]

    for page in pages:
        wide, shift, moved, wrong = asked(page.read_text(), tmp_path, width)

        assert (page.name, wide <= 0, wrong) == (page.name, True, [])
        assert shift < _A_LINE, (page.name, shift, moved)
